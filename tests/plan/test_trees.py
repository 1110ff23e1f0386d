"""Trees written as paths: both sides add, move, rename and remove; on live the laws of a tree hold after all of it."""

from __future__ import annotations

import random
import shutil
import sqlite3
import tempfile
import unittest
from pathlib import Path

from hypothesis import example, given, settings
from hypothesis import strategies as st

from nostos.core.apply.merge import merge
from nostos.core.takeback.undo import prepare_undo, to_take_back
from tests.support import Harbour

PAGES = """CREATE TABLE pages (id INTEGER PRIMARY KEY AUTOINCREMENT, path VARCHAR(255) NOT NULL UNIQUE,
    depth INTEGER NOT NULL, numchild INTEGER NOT NULL, title TEXT NOT NULL, slug TEXT NOT NULL, url_path TEXT NOT NULL)
"""
FIRST = (("", "Root"), ("Root", "Home"), ("Home", "A"), ("Home", "B"), ("A", "A1"), ("A", "A2"), ("A1", "A11"),
         ("B", "B1"))
STEP = 4


class Pages:
    """A tree of pages as its system keeps it."""

    def __init__(self, path: Path) -> None:
        self.db = sqlite3.connect(path, isolation_level=None)
        self.db.row_factory = sqlite3.Row

    def rows(self, where: str = "1", *values: object) -> list[sqlite3.Row]:
        return self.db.execute(f"SELECT * FROM pages WHERE {where}", values).fetchall()

    def one(self, title: str) -> sqlite3.Row:
        return self.rows("title=?", title)[0]

    def _free(self, head: str) -> str:
        taken = [int(r["path"][-STEP:]) for r in self.rows("path LIKE ? AND length(path)=?", f"{head}%",
                                                           len(head) + STEP)]
        return f"{head}{max(taken, default=0) + 1:0{STEP}}"

    def _count(self, path: str, by: int) -> None:
        self.db.execute("UPDATE pages SET numchild=numchild+? WHERE path=?", (by, path))

    def add(self, above: str, title: str) -> None:
        up = self.one(above) if above else {"path": "", "url_path": "", "depth": 0}
        self.db.execute("INSERT INTO pages (path, depth, numchild, title, slug, url_path) VALUES (?, ?, 0, ?, ?, ?)",
                        (self._free(up["path"]), up["depth"] + 1, title, title, f"{up['url_path']}{title}/"))
        self._count(up["path"], 1)

    def move(self, title: str, above: str) -> None:
        row, up = self.one(title), self.one(above)
        if not up["path"].startswith(row["path"]):
            new = self._free(up["path"])
            self._count(row["path"][:-STEP], -1)
            self._count(up["path"], 1)
            self._write(row, new, f"{up['url_path']}{row['slug']}/")

    def rename(self, title: str, slug: str) -> None:
        row = self.one(title)
        self.db.execute("UPDATE pages SET slug=? WHERE id=?", (slug, row["id"]))
        self._write(row, row["path"], row["url_path"][:-len(row["slug"]) - 1] + slug + "/")

    def _write(self, row: sqlite3.Row, path: str, url: str) -> None:
        for r in self.rows("path LIKE ?", f"{row['path']}%"):
            here = path + r["path"][len(row["path"]):]
            self.db.execute("UPDATE pages SET path=?, depth=?, url_path=? WHERE id=?",
                            (here, len(here) // STEP, url + r["url_path"][len(row["url_path"]):], r["id"]))

    def remove(self, title: str, _: str) -> None:
        path = self.one(title)["path"]
        self.db.execute("DELETE FROM pages WHERE path LIKE ?", (f"{path}%",))
        self._count(path[:-STEP], -1)

    def told(self) -> dict[str, tuple[str, str]]:
        """Below what each page is, and its slug."""
        by_path = {r["path"]: r["title"] for r in self.rows()}
        return {r["title"]: (by_path.get(r["path"][:-STEP], ""), r["slug"]) for r in self.rows()}

    def broken(self) -> list[str]:
        """What the laws of a tree say against these pages."""
        by_path = {r["path"]: r for r in self.rows()}
        found = []
        for path, row in by_path.items():
            up = by_path.get(path[:-STEP])
            below = sum(p[:-STEP] == path for p in by_path)
            head = up["url_path"] if up else ""
            if (row["depth"], row["numchild"], row["url_path"]) != (len(path) // STEP, below, f"{head}{row['slug']}/"):
                found.append(f"{dict(row)} below {dict(up) if up else None}, with {below} below it")
            if up is None and row["title"] != "Root":
                found.append(f"{dict(row)} is below nothing")
        return found


class Trees(unittest.TestCase):
    def harbour(self) -> tuple[Harbour, Pages, Pages]:
        folder = Path(tempfile.mkdtemp(prefix="nostos-test-"))
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        (folder / "live").mkdir()
        pages = Pages(folder / "live/made.db")
        pages.db.execute(PAGES)
        for above, title in FIRST:
            pages.add(above, title)
        (folder / "live/nostos.toml").write_text(
            'editors = ["*"]\n[site]\nname = "made"\nurl = "http://made.example"\nfiles = "none"\n'
                                                 'database = "sqlite:///made.db"\n')
        harbour = Harbour(folder, folder / "live")
        return harbour, Pages(folder / "live/made.db"), Pages(folder / "staging/made.db")

    @settings(max_examples=40, deadline=None)
    @given(st.integers(0, 100_000))
    def test_the_laws_hold_on_live(self, seed: int) -> None:
        chance = random.Random(seed)
        h, live, staging = self.harbour()
        worked = set()
        for n in range(chance.randint(2, 8)):
            side = chance.choice((live, staging))
            titles = [t for t in side.told() if t not in ("Root", "Home")]
            what = chance.choice(("add", "add", "move", "move", "rename", "remove"))
            if titles and (what != "remove" or chance.random() < 0.4):
                worked.add(side)
                if what == "add":
                    side.add(chance.choice((*titles, "Home")), f"N{n}")
                else:
                    getattr(side, what)(chance.choice(titles), chance.choice((*titles, "Home"))
                                        if what == "move" else f"s{n}")
        before, theirs = live.told(), staging.told()
        rows = [tuple(r) for r in live.rows()]
        with h.crew() as crew:
            merged = h.merge("*") if h.compare().items else None
            self.assertEqual(live.broken(), [], seed)
            self.assertLessEqual({t for t in before if t.startswith("N") and t not in theirs}, live.told().keys())
            if live not in worked:
                self.assertEqual(live.told(), theirs)
            self.assertFalse([i for i in h.compare().items.values() if i.goes_home and i.standing != "clash"], seed)
            if merged is not None and merged.id:
                merge(h.home, crew, prepare_undo(h.home, crew, to_take_back(h.home, "trip", None)))
                self.assertEqual([tuple(r) for r in live.rows()], rows, seed)

    def test_what_live_gained_below_moves_along(self) -> None:
        h, live, staging = self.harbour()
        staging.move("A", "B1")
        staging.rename("A", "moved")
        live.add("A11", "N")
        h.merge("*")
        self.assertEqual(live.broken(), [])
        self.assertEqual(live.one("N")["url_path"], "Root/Home/B/B1/moved/A1/A11/N/")
        live.add("A11", "late")
        with h.crew() as crew:
            merge(h.home, crew, prepare_undo(h.home, crew, to_take_back(h.home, "trip", None)))
        self.assertEqual(live.broken(), [])
        self.assertEqual(live.one("late")["url_path"], "Root/Home/A/A1/A11/late/")

    def test_a_move_below_itself_and_two_moves_of_one(self) -> None:
        h, live, staging = self.harbour()
        staging.move("A", "B")
        live.move("B", "A11")
        staging.move("B1", "Home")
        live.move("B1", "A2")
        found = h.compare().items
        self.assertIn("clash", str(found["pages/8"].standing))
        self.assertNotIn("pages/3", h.homeward())
        h.merge()
        self.assertEqual(live.broken(), [])

    def test_a_removal_waits_for_what_live_put_below(self) -> None:
        h, live, staging = self.harbour()
        staging.remove("A1", "")
        live.add("A11", "N")
        h.merge("*")
        self.assertEqual(live.broken(), [])
        self.assertEqual(live.told()["N"][0], "A11")

    def test_a_refresh_moves_along_too(self) -> None:
        h, live, staging = self.harbour()
        live.move("A", "B")
        staging.add("A1", "N")
        h.refresh("*")
        self.assertEqual(staging.broken(), [])
        h.merge("*")
        self.assertEqual((live.broken(), live.told()), ([], staging.told()))


class Nested:
    """Trees by intervals, as their system keeps them: every change numbers them anew."""

    def __init__(self, path: Path, parent: bool) -> None:
        self.db, self.parent = sqlite3.connect(path, isolation_level=None), parent

    def told(self) -> dict[str, str]:
        """What each is below, by the intervals alone."""
        return dict(self.db.execute(
            "SELECT a.name, coalesce((SELECT b.name FROM cats b WHERE b.lft < a.lft AND b.rgt > a.rgt "
            "ORDER BY b.lft DESC LIMIT 1), '') FROM cats a ORDER BY a.lft").fetchall())

    def write(self, tree: dict[str, str]) -> None:
        """Number rows that are there, and add the others."""
        ids = dict(self.db.execute("SELECT name, id FROM cats").fetchall())
        for name in sorted(tree.keys() - ids.keys()):
            ids[name] = self.db.execute("INSERT INTO cats (name, lft, rgt, level) VALUES (?, 0, 0, 0)",
                                        (name,)).lastrowid
        at = 0

        def number(name: str, deep: int) -> None:
            nonlocal at
            at += 1
            left = at
            for child in (c for c, up in tree.items() if up == name):
                number(child, deep + 1)
            at += 1
            self.db.execute("UPDATE cats SET lft=?, rgt=?, level=? WHERE name=?", (left, at, deep, name))
            if self.parent:
                self.db.execute("UPDATE cats SET parent_id=? WHERE name=?", (ids.get(tree[name]), name))

        for top in [c for c, up in tree.items() if not up]:
            number(top, 0)

    def broken(self) -> list[str]:
        rows = self.db.execute("SELECT lft, rgt, level, name FROM cats").fetchall()
        bounds = sorted(n for r in rows for n in r[:2])
        found = [f"{a}: {a[0]} to {a[1]} crosses {b}" for a in rows for b in rows if a[0] < b[0] < a[1] < b[1]]
        deep = [r[3] for r in rows if sum(o[0] < r[0] < o[1] for o in rows) != r[2]]
        return [*found, *deep, *(["twice"] if len(set(bounds)) < len(bounds) else [])]


class Intervals(unittest.TestCase):
    @settings(max_examples=40, deadline=None)
    @given(st.integers(0, 100_000), st.booleans())
    @example(27209, True)  # an undo takes away what was between a row and the one above it
    def test_the_laws_hold_on_live(self, seed: int, parent: bool) -> None:
        folder = Path(tempfile.mkdtemp(prefix="nostos-test-"))
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        (folder / "live").mkdir()
        first = Nested(folder / "live/made.db", parent)
        first.db.execute("CREATE TABLE cats (id INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT, lft INTEGER NOT NULL, "
                         "rgt INTEGER NOT NULL, level INTEGER NOT NULL"
                         + (", parent_id INTEGER REFERENCES cats(id))" if parent else ")"))
        first.write({"root": "", "a": "root", "b": "root", "a1": "a", "a2": "a", "a11": "a1", "b1": "b"})
        (folder / "live/nostos.toml").write_text(
            'editors = ["*"]\n[site]\nname = "made"\nurl = "http://made.example"\nfiles = "none"\n'
                                                 'database = "sqlite:///made.db"\n')
        h = Harbour(folder, folder / "live")
        live, staging = first, Nested(folder / "staging/made.db", parent)
        chance, worked = random.Random(seed), set()
        for n in range(chance.randint(1, 6)):
            side = chance.choice((live, staging))
            tree, name = side.told(), chance.choice(list(side.told()))
            if chance.random() < 0.5:
                tree[f"n{n}"] = name
            else:
                up, above = chance.choice(list(tree)), set()
                at = up
                while at:
                    above.add(at)
                    at = tree[at]
                if name != "root" and name not in above:
                    tree[name] = up
            worked.add(side)
            side.write(tree)
        before, theirs, rows = live.told(), staging.told(), live.db.execute("SELECT * FROM cats").fetchall()
        merged = h.merge("*") if h.compare().items else None
        self.assertEqual(live.broken(), [], seed)
        self.assertLessEqual(before.keys(), live.told().keys())
        come = {n: up for n, up in live.told().items() if n in theirs and n not in before}
        self.assertEqual(come, {n: theirs[n] for n in come})
        if live not in worked:
            self.assertEqual(live.told(), theirs)
        self.assertFalse([i for i in h.compare().items.values() if i.goes_home and i.standing != "clash"], seed)
        if merged is not None and merged.id:
            with h.crew() as crew:
                merge(h.home, crew, prepare_undo(h.home, crew, to_take_back(h.home, "trip", None)))
            self.assertEqual(live.told(), before)
            self.assertEqual(live.broken(), [])
            self.assertEqual({r[:2] for r in live.db.execute("SELECT * FROM cats").fetchall()}, {r[:2] for r in rows})


if __name__ == "__main__":
    unittest.main()
