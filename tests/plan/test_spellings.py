"""However a number is spelled: no note goes home that leads to another thing than in staging. And laws 16 and 17."""

from __future__ import annotations

import base64
import json
import random
import re
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import unittest
from functools import partial
from importlib.util import find_spec
from pathlib import Path
from typing import Any

from nostos.core.engines.sqlite.connection import SqliteDatabase
from nostos.core.learning.findings import Certainty, add_answers
from nostos.core.learning.learn import learn
from nostos.core.profiles.from_schema import NO_PROFILE, complete
from nostos.core.values import located, php
from tests.learning.test_learning import Made, Maker
from tests.plan.test_unknown import LawElevenTest
from tests.support import Harbour, SiteTest, rows

SPELLINGS = (
    "{}", "app.tour:{}", "tour:{}", "gid://app/Tour/{}", "/tour/{}", "tour-{}", "tour_{}", "tour#{}", "tour={}",
    "see /tour/{} tonight", "/tours/{}/edit", "entity:tour/{}", "internal:/tour/{}", "?tour={}&view=1", "1,{},2",
    "<a href='/tour/{}'>on</a>", "[tours ids=\"2,{}\"]", "<tour>{}</tour>", "<x tour=\"{}\"/>", "App\\Tour:{}",
    '{{"tour": {}}}', '{{"tour_{}": "on"}}', '{{"a": {{"tours": [1, {}]}}}}', "---\ntour_id: {}\nother: on\n",
    "---\ntours:\n- 1\n- {}\n", 'a:1:{{s:4:"tour";i:{};}}', "base64")


def spelled(how: str, number: int) -> str:
    if how == "base64":
        return base64.b64encode(json.dumps({"what": "an evening", "tour": number}).encode()).decode()
    return how.format(number)


def numbers(text: str) -> list[int]:
    """The numbers of a spelling, in whatever it is."""
    if re.fullmatch(r"[A-Za-z0-9+/]{24,}=*", text):
        text = base64.b64decode(text).decode()
    text = re.sub(r"[as]:\d+:", "", text)
    return [int(n) for n in re.findall(r"(?<!64)\d+", text)]


class Spellings(SiteTest):
    def test_a_passwords_hash_holds_no_numbers(self) -> None:
        """What looks like a path in one is chance: in one of forty."""
        for text in ("$wp$2y$10$kkm6/t/9/RVnXh32tSh6SKWwArxNwvLmxCTYfM1Vi/5qu/JsoEc0V",
                     "$P$B7xx/tour/21/KQvnXh32tSh6SKWwAr",
                     "pbkdf2_sha256$260000$kk/6/t$9DRVnXh32tSh6SKWwArxNwvLmxCTYfM1Vi="):
            self.assertEqual(list(located.numbers(text)), [], text)

    def test_no_spelling_leads_elsewhere(self) -> None:
        """Each way of writing has a column of its own; old rows show what it holds, and both sides gain a tour."""
        live = self.folder / "live"
        live.mkdir()
        path = live / "site.db"
        columns = [f"w{n}" for n in range(len(SPELLINGS))]
        with sqlite3.connect(path) as db:
            db.execute("CREATE TABLE tours (id INTEGER PRIMARY KEY AUTOINCREMENT, title TEXT, slug TEXT)")
            db.execute(f"CREATE TABLE notes (id INTEGER PRIMARY KEY AUTOINCREMENT, title TEXT, slug TEXT, "
                       f"{', '.join(f'{c} TEXT' for c in columns)})")
            for n in range(1, 61):
                if n % 3:  # numbers have gaps, as they have where things were removed
                    db.execute("INSERT INTO tours VALUES (?, ?, ?)", (n, f"Tour {n}", f"tour-of-{n}"))
            for n in (2, 5, 17, 26, 31, 44, 52, 58):
                db.execute(f"INSERT INTO notes VALUES (NULL, ?, ?{', ?' * len(columns)})",
                           ("Note", f"n{n}", *(spelled(s, n) for s in SPELLINGS)))
        (live / "nostos.toml").write_text('editors = ["*"]\n[site]\nname = "made"\nurl = "http://made.example"\n'
                                          'files = "none"\ndatabase = "sqlite:///site.db"\n')
        h = Harbour(self.folder, live)
        copy = h.staging_folder / "site.db"
        rows(path, "INSERT INTO tours (title, slug) VALUES ('Storm warning', 'storm')")
        rows(copy, "INSERT INTO tours (title, slug) VALUES ('Crew', 'crew')")
        born = rows(copy, "SELECT id FROM tours WHERE slug='crew'")[0][0]
        for column, how in zip(columns, SPELLINGS, strict=True):
            rows(copy, f"INSERT INTO notes (title, slug, {column}) VALUES (?, ?, ?)", column, column,
                 spelled(how, born))
        asked = h.compare().questions
        h.merge("*")
        home = rows(path, "SELECT id FROM tours WHERE slug='crew'")[0][0]
        self.assertNotEqual(home, born)
        came = {}
        for column, how in zip(columns, SPELLINGS, strict=True):
            for (value,) in rows(path, f"SELECT {column} FROM notes WHERE slug=?", column):
                came[how] = numbers(value)
                self.assertEqual(came[how], numbers(spelled(how, home)), how)
        with h.crew() as crew:  # what was asked is told, and every answer has its effect
            database = crew.live.open(readonly=True)
            add_answers(crew.answers, {str(p): "tours" for q in asked for p in q.places}, database.tables())
            database.close()
        self.assertEqual(h.compare().questions, ())
        h.merge("*")
        for column, how in zip(columns, SPELLINGS, strict=True):
            ((value,),) = rows(path, f"SELECT {column} FROM notes WHERE slug=?", column)
            self.assertEqual(numbers(value), numbers(spelled(how, home)), how)
            if how.startswith("a:1"):
                self.assertEqual(php.read(value), {"tour": home})
        self.assertGreater(len(came), len(SPELLINGS) // 2, f"asked of {sorted(set(SPELLINGS) - came.keys())}")


class LawSixteen(LawElevenTest):
    def test_other_numbers_change_nothing(self) -> None:
        """Staging's births under the numbers that were free, or far from them: live gets the same."""
        for seed in range(12):
            came, asked = [], []
            for far in (0, 50_000):
                folder = Path(tempfile.mkdtemp(prefix="nostos-test-"))
                self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
                made = Maker(seed).make()
                h, live, staging = self.site(folder, made)
                if far:
                    rows(h.staging_folder / "made.db", "UPDATE sqlite_sequence SET seq = seq + ?", far)
                chance = random.Random(seed)
                names = list(dict.fromkeys(t for t, _ in (*made.references, *made.numbers)))
                for ask, side in ((live, "live"), (staging, "staging")):
                    for n in range(6):
                        self.born(ask, names[n % len(names)], f"{side} {n}", made, chance)
                asked.append(len(h.compare().questions))
                if h.compare().items:
                    h.merge("*")
                came.append(self.told(live, names, made))
            if not asked[0]:
                self.assertEqual(came[0], came[1], seed)
            self.assertLessEqual(asked[1], asked[0], seed)

    @staticmethod
    def site(folder: Path, made: Made) -> tuple[Harbour, Any, Any]:
        (folder / "site").mkdir()
        (folder / "site/nostos.toml").write_text('editors = ["*"]\n[site]\nname = "made"\nurl = "http://made.example"\n'
                                                 'files = "none"\ndatabase = "sqlite:///made.db"\n')
        with sqlite3.connect(folder / "site/made.db") as db:
            for sql in made.sql:
                db.execute(sql)
        h = Harbour(folder, folder / "site")
        return h, partial(rows, h.live_folder / "made.db"), partial(rows, h.staging_folder / "made.db")


@unittest.skipIf(find_spec("oscar") is None, "not installed: django-oscar")
class LawSeventeen(SiteTest):
    def test_other_names_never_send_home_what_stayed(self) -> None:
        """The real Python system and its shop, and the same with every table and column called otherwise."""
        site = self.folder / "site"
        shutil.copytree(Path(__file__).parent.parent / "real/python_site", site)
        (site / "nostos.toml").write_text("[site]\nname = 'x'\nurl = 'http://x.example'\n"
                                          "database = 'sqlite:///site.db'\n")
        done = subprocess.run([sys.executable, "-W", "ignore", "work.py", "seed"], cwd=site, capture_output=True,
                              text=True, check=False)
        self.assertEqual(done.returncode, 0, done.stderr[-2000:])
        named, blind = (self.learned(path) for path in (site / "site.db", self.renamed(site / "site.db")))
        self.assertLessEqual(blind["editors"], named["editors"])
        self.assertLessEqual(blind["numbers"], named["numbers"])
        self.assertGreater(len(named["sure"]), 100)
        for place, goal in blind["sure"].items():
            self.assertIn(named["sure"].get(place, goal), (goal,), place)

    def renamed(self, path: Path) -> Path:
        """The same database, its tables called t1, t2 and their columns c1, c2; what each was is kept beside."""
        target = path.with_name("renamed.db")
        self.names: dict[str, str] = {}
        with sqlite3.connect(path) as db:
            tables = [n for (n,) in db.execute("SELECT name FROM sqlite_master WHERE type='table' AND sql IS NOT NULL "
                                               "AND sql NOT LIKE 'CREATE VIRTUAL%' AND name NOT LIKE 'sqlite%' "
                                               "AND name NOT LIKE '%_fts%'")]
            with sqlite3.connect(target) as new:
                for t, table in enumerate(tables):
                    columns = list(db.execute(f'PRAGMA table_info("{table}")'))
                    said = []
                    for c, (_, name, kind, notnull, _, key) in enumerate(columns):
                        self.names[f"t{t}.c{c}"] = f"{table}.{name}"
                        said.append(f"c{c} {kind}{' PRIMARY KEY AUTOINCREMENT' if key and kind == 'integer' else ''}"
                                    f"{' NOT NULL' if notnull else ''}")
                    self.names[f"t{t}"] = table
                    new.execute(f"CREATE TABLE t{t} ({', '.join(said)})")
                    new.executemany(f"INSERT INTO t{t} VALUES ({', '.join('?' * len(columns))})",
                                    db.execute(f'SELECT * FROM "{table}"'))
        return target

    def learned(self, path: Path) -> dict[str, Any]:
        """What is learned of a database without declared keys, in the names of the one that was renamed."""
        database = SqliteDatabase(path, readonly=True)
        tables = {n: t.__class__(**{**{f: getattr(t, f) for f in t.__dataclass_fields__}, "foreign_keys": ()})
                  for n, t in database.tables().items()}
        found = learn(database, tables, complete(NO_PROFILE, tables))
        database.close()
        names = getattr(self, "names", {}) if path.name == "renamed.db" else {}

        def say(name: str) -> str:
            return names.get(name, name)

        whole = [f for f in found.findings if not f.place.path and not f.place.where]
        return {"editors": {say(k) for k in found.editors},
                "numbers": {say(f"{f.place.table}.{f.place.column}") for f in whole if f.certainty is Certainty.NONE},
                "sure": {say(f"{f.place.table}.{f.place.column}"): say(f.to) for f in whole
                         if f.certainty is Certainty.SURE}}


if __name__ == "__main__":
    unittest.main()
