"""The laws of the design (section 8), held over generated edits on both sides and generated selections.

What is generated is a list of small steps, so that a failing case shrinks to the few that matter. The site is the
stand-in: shared id sequence, structured settings, ids inside texts.
"""

from __future__ import annotations

import json
import os
import re
import shutil
import tempfile
import unittest
from collections.abc import Sequence
from pathlib import Path

from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st

from nostos.core.anchor.names import Side
from nostos.core.apply.merge import MergeResult, merge
from nostos.core.compare.field_merge import Standing
from nostos.core.errors import SelectionError
from nostos.core.plan.decisions import Decision
from nostos.core.plan.prepared import compare_voyage, prepare
from nostos.core.plan.selection import Choice
from nostos.core.takeback.undo import prepare_undo, to_take_back
from nostos.demo.system import Observatory
from tests.support import Harbour, contents, dangling, rows, state, tree

STEPS = ("page", "child page", "picture page", "edit title", "edit body", "edit end", "order", "comment", "reply",
         "term", "remove", "menu", "colour", "enable", "field", "join", "touch file", "new file", "rename")
Step = tuple[str, int]
Shape = tuple[dict[str, list[tuple[object, ...]]], dict[str, bytes]]
EXAMPLES = int(os.environ.get("NOSTOS_EXAMPLES", "40"))  # more of them where there is time
PHASES = (Phase.explicit, Phase.generate, Phase.shrink)


def take(site: Observatory, side: str, step: Step) -> None:
    """Do one step on a site; the number chooses what it is done to."""
    what, n = step
    pages = rows(site.database, "SELECT id, body FROM content WHERE kind='page' ORDER BY id")
    notes = rows(site.database, "SELECT id FROM content WHERE kind='note' ORDER BY id")
    page, body = pages[n % len(pages)]
    serial = rows(site.database, "SELECT seq FROM sqlite_sequence WHERE name='content'")[0][0]
    name = f"{side}-{n}-{serial}"
    if what == "page":
        site.add("page", f"p-{name}", f"Page {name}", f'<p><a data-content="{page}" href="{site.address}/x">x</a></p>')
    elif what == "child page":
        site.add("page", f"c-{name}", f"Child {name}", parent_id=page, terms=[n % 4 + 1])
    elif what == "picture page":
        picture = site.add_picture(f"pic-{name}", "A picture", f"<svg><!-- {name} --></svg>\n")
        site.add("page", f"pp-{name}", "Pictured", site.picture_tag(picture), fields={"picture": picture})
    elif what == "edit title":
        site.edit(page, title=f"Title {side} {n}")
    elif what == "edit body":
        site.edit(page, body=f"<p>First {side} {n}</p>\n\n" + body)
    elif what == "edit end":
        site.edit(page, body=body + f"\n<p>Last {side} {n}</p>\n")
    elif what == "order":
        product = rows(site.database, "SELECT id FROM content WHERE kind='product'")[0][0]
        site.order(f"o-{name}", f"Visitor {n}", [(product, n % 3 + 1, 900)])
    elif what == "comment":
        site.comment(notes[n % len(notes)][0] if n % 2 and notes else page, f"Visitor {n}", f"Comment {name}")
    elif what == "reply":
        found = rows(site.database, "SELECT id, content_id FROM comments ORDER BY id DESC")
        if found:
            site.comment(found[0][1], f"Visitor {n}", "Reply", parent=found[0][0])
    elif what == "term":
        if not rows(site.database, "SELECT 1 FROM terms WHERE slug=?", f"t{n}"):
            site.add_term("subject", f"t{n}", f"Term {n} {side if n % 2 else ''}")
    elif what == "remove":
        used = {p for (p,) in rows(site.database, "SELECT parent_id FROM content WHERE parent_id IS NOT NULL")}
        free = [p for p, _ in pages if p not in used and not _menued(site, p)]
        if free:
            site.remove(free[n % len(free)])
    elif what == "menu":
        menu = site.setting("menu.main")
        menu["entries"].append({"label": f"Entry {name}", "content": page})
        site.set("menu.main", menu)
    elif what == "colour":
        options = site.setting("theme.dusk")
        options["accent" if n % 2 else f"colour{n}"] = f"#{side}{n}"
        site.set("theme.dusk", options)
    elif what == "enable":
        enabled = site.setting("extensions")
        name = f"ext{n % 3}"
        site.set("extensions", [e for e in enabled if e != name] if name in enabled else [*enabled, name])
    elif what == "field":
        site.set_field(page, f"note{n % 3}", f"{side} {n}")
    elif what == "join":
        if not rows(site.database, "SELECT 1 FROM members WHERE login=?", f"m{n}"):
            site.join(f"m{n}", f"Member {n}")
    elif what == "touch file":
        (site.folder / "themes" / "meadow" / "style.css").write_text(f"/* {side} {n} */\n")
    elif what == "new file":
        (site.folder / f"file{n % 3}.txt").write_text(f"{side} {n}\n")
    elif what == "rename" and not rows(site.database, "SELECT 1 FROM content WHERE slug=?", f"r{n}"):
        site.edit(page, slug=f"r{n}")


def _menued(site: Observatory, page: int) -> bool:
    used = [e.get("content") for e in site.setting("menu.main")["entries"]]
    text = rows(site.database, "SELECT 1 FROM content WHERE body LIKE ?", f'%data-content="{page}"%')
    return page in used or page == site.setting("front-page") or page == site.setting("notes-page") or bool(text)


steps = st.lists(st.tuples(st.sampled_from(STEPS), st.integers(0, 6)), max_size=7)
KINDS = ("page/*", "picture/*", "term/*", "menu/*", "setting/*", "order/*", "comment/*", "member/*", "file/*",
         "theme/*")
kinds = st.lists(st.sampled_from(KINDS), max_size=4, unique=True)


class Laws(unittest.TestCase):
    """One voyage an example."""

    def voyage(self, on_live: Sequence[Step], on_staging: Sequence[Step]) -> Harbour:
        folder = Path(tempfile.mkdtemp(prefix="nostos-law-"))
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        harbour = Harbour(folder)
        for step in on_staging:
            take(harbour.staging, "s", step)
        for step in on_live:
            take(harbour.live, "l", step)
        return harbour

    @settings(max_examples=EXAMPLES, deadline=None, phases=PHASES, suppress_health_check=list(HealthCheck))
    @given(steps, steps, kinds)
    def test_laws_of_one_merge(self, on_live: list[Step], on_staging: list[Step], chosen: list[str]) -> None:
        harbour = self.voyage(on_live, on_staging)
        before_rows, before_files = state(harbour.live_folder)
        before = harbour.compare()
        chosen = [p for p in chosen if any(i.startswith(p[:-1]) for i in before.items)]
        already = dangling(harbour.live.database)
        gained = {s.id: s for s in before.rows.states.values() if s.base is None and s.target is not None}

        with harbour.crew() as crew:
            selection = prepare(crew, Choice(tuple(chosen))).plan.selection
        left, went = [i.id for i in selection.left], [i.id for i in selection.items]

        result = harbour.merge(*chosen)
        after_rows, _ = state(harbour.live_folder)

        # 8: every row that live gained is present and equal, but for its counters
        for gain in gained.values():
            assert gain.target_raw is not None
            now = rows(harbour.live.database, f"SELECT * FROM {gain.table} WHERE " + " AND ".join(
                f"{c} = ?" for c in harbour_key(gain.table)), *(gain.target_raw[c] for c in harbour_key(gain.table)))
            self.assertEqual(len(now), 1, gain.id)
            for column, value in zip(columns(harbour, gain.table), now[0], strict=True):
                if column not in ("comment_count", "uses"):
                    self.assertEqual(value, gain.target_raw[column], (gain.id, column))
        self.assertTrue(all(line.holds for line in result.ledger))
        # 9: no reference on live points at nothing, unless it did before
        self.assertEqual([d for d in dangling(harbour.live.database) if d not in already], [])
        # counters are true
        self.assertEqual(rows(harbour.live.database, (
            "SELECT id, comment_count, (SELECT count(*) FROM comments WHERE content_id=content.id) AS n "
            "FROM content WHERE comment_count <> n")), [])
        # staging's address never reaches live
        self.assertNotIn(":8432", repr(after_rows))
        # 3: what was not chosen, and is needed by nothing chosen, could go home as before, unchanged on live
        after = harbour.compare()
        self.assertEqual(sorted(i for i in left if i not in after.items), [])
        if not went:
            self.assertTrue(before_rows == after_rows and before_files == tree(harbour.live_folder))
        # 5: merging twice is merging once
        again = state(harbour.live_folder)
        harbour.merge(*chosen)
        self.assertTrue(again == state(harbour.live_folder))
        if not chosen:
            # 6: nothing that editors make is left to go home
            visitors = {"order", "comment", "member"}
            left = [i for i in harbour.homeward() if i.partition("/")[0] not in visitors]
            self.assertEqual(left, [])

    @settings(max_examples=EXAMPLES // 2, deadline=None, phases=PHASES, suppress_health_check=list(HealthCheck))
    @given(steps)
    def test_all_of_staging_onto_a_still_live(self, on_staging: list[Step]) -> None:
        """2: nothing changed on live and everything taken: live equals staging in portable form."""
        harbour = self.voyage([], on_staging)
        self.assertFalse([i for i in harbour.compare().items.values() if i.standing is Standing.CLASH])
        harbour.merge("*")
        self.assertEqual(harbour.compare().items, {})
        self.assertEqual(apart(shape(harbour.live), shape(harbour.staging)), [])

    @settings(max_examples=EXAMPLES // 3, deadline=None, phases=PHASES, suppress_health_check=list(HealthCheck))
    @given(steps)
    def test_nothing_selected_changes_nothing(self, on_live: list[Step]) -> None:
        """1: nothing changed in staging, nothing selected: byte for byte the same."""
        harbour = self.voyage(on_live, [])
        before = state(harbour.live_folder), harbour.live.database.read_bytes()
        harbour.merge()
        self.assertTrue(before == (state(harbour.live_folder), harbour.live.database.read_bytes()))

    @settings(max_examples=EXAMPLES // 3, deadline=None, phases=PHASES, suppress_health_check=list(HealthCheck))
    @given(steps, steps)
    def test_two_merges_are_one(self, on_live: list[Step], on_staging: list[Step]) -> None:
        """7: taking A then B equals taking A and B. Needs are pulled in either way."""
        once, twice = self.voyage(on_live, on_staging), self.voyage(on_live, on_staging)
        once.merge("*")
        first = [p for p in KINDS[:5] if any(i.startswith(p[:-1]) for i in twice.compare().items)]
        if first:
            twice.merge(*first)
        twice.merge("*")
        self.assertEqual(apart(shape(once.live), shape(twice.live)), [])

    @settings(max_examples=EXAMPLES // 2, deadline=None, phases=PHASES, suppress_health_check=list(HealthCheck))
    @given(steps, steps, st.booleans())
    def test_a_refresh_is_a_merge_with_the_roles_changed(self, on_live: list[Step], on_staging: list[Step],
                                                         merged_first: bool) -> None:
        """Live stays as it is, staging's own work stays, nothing of live's is left behind; then merging goes on."""
        harbour = self.voyage(on_live, on_staging)
        if merged_first:
            harbour.merge("*")
        live, mine, broken = state(harbour.live_folder), harbour.homeward(), dangling(harbour.staging.database)
        self.assertTrue(all(line.holds for line in harbour.refresh().ledger))
        self.assertTrue(live == state(harbour.live_folder))
        self.assertEqual([d for d in dangling(harbour.staging.database) if d not in broken], [])
        self.assertNotIn(":8431", repr(contents(harbour.staging.database)))
        with harbour.crew() as crew:
            self.assertEqual(list(compare_voyage(crew, toward=Side.STAGING)[1]), [])
        still = {i.partition("~")[0] for i in harbour.homeward()}  # two of one name are told apart, until they are not
        self.assertEqual([i for i in mine if i.partition("~")[0] not in still], [])
        again = state(harbour.staging_folder)
        harbour.refresh()
        self.assertTrue(again == state(harbour.staging_folder))
        harbour.merge("*")
        harbour.refresh()
        after = harbour.compare().items.values()
        over = (Standing.CLASH, Standing.SETTLED)  # what is settled is noted with the next merge that does something
        with harbour.crew() as crew:  # what rests on something that staging removed has no place there
            stuck = {i.id for i in compare_voyage(crew, toward=Side.STAGING)[0].items.values() if i.reason}
        self.assertEqual([i.id for i in after if i.standing not in over and not i.reason and i.id not in stuck
                          and not any(f.standing is Standing.CLASH for f in i.fields)], [])
        if not after:
            self.assertEqual(apart(shape(harbour.live), shape(harbour.staging)), [])

    @settings(max_examples=EXAMPLES // 2, deadline=None, phases=PHASES, suppress_health_check=list(HealthCheck))
    @given(steps, steps, steps, kinds)
    def test_merge_then_undo(self, on_live: list[Step], on_staging: list[Step], since: list[Step],
                             chosen: list[str]) -> None:
        """4: merge then undo is the identity, apart from what live did since; and it can be done again."""
        harbour = self.voyage(on_live, on_staging)
        chosen = [p for p in chosen if any(i.startswith(p[:-1]) for i in harbour.compare().items)]
        before, due = state(harbour.live_folder), harbour.standings()
        if not harbour.merge(*chosen).id:
            return
        merged = state(harbour.live_folder)
        for step in since:
            take(harbour.live, "x", step)
        lived, broken = contents(harbour.live.database), dangling(harbour.live.database)
        self.assertTrue(all(line.holds for line in undo(harbour).ledger))
        self.assertEqual([d for d in dangling(harbour.live.database) if d not in broken], [])
        after = contents(harbour.live.database)
        gone = {t: {r[0] for r in lived[t]} - {r[0] for r in after[t]} for t in ("comments", "order_lines", "members")}
        mine = {t: {r[0] for r in merged[0][t]} for t in gone}
        self.assertEqual({t: keys - mine[t] for t, keys in gone.items()}, {t: set() for t in gone})
        if not since:
            self.assertTrue(before == state(harbour.live_folder))
            settled = {i for i, s in due.items() if s == "settled"}
            self.assertEqual({i: s for i, s in harbour.standings().items() if i not in settled},
                             {i: s for i, s in due.items() if i not in settled})
            harbour.merge(*chosen)
            self.assertEqual({t: len(r) for t, r in contents(harbour.live.database).items()},
                             {t: len(r) for t, r in merged[0].items()})

    @settings(max_examples=EXAMPLES // 3, deadline=None, phases=PHASES, suppress_health_check=list(HealthCheck))
    @given(steps, steps, st.sampled_from(list(Side)))
    def test_decided_clashes_are_gone(self, on_live: list[Step], on_staging: list[Step], side: Side) -> None:
        harbour = self.voyage(on_live, on_staging)
        with harbour.crew() as crew:
            before, _ = compare_voyage(crew)
            clashing = [i.id for i in before.items.values() if i.standing is Standing.CLASH and any(
                f.standing is Standing.CLASH for f in i.fields)]
            gained = {s.id: s.target_raw for s in before.rows.states.values()
                      if s.base is None and s.target is not None}
            try:
                merge(harbour.home, crew, prepare(crew, Choice(prefer=tuple(Decision(i, side) for i in clashing))))
            except SelectionError:  # something else stands in the way of one of them
                return
        after = harbour.compare()
        self.assertEqual([i for i in clashing if i in after.items and any(
            f.standing is Standing.CLASH for f in after.items[i].fields)], [])
        for name, row in gained.items():
            if row is not None and name[0] in ("comments", "order_lines", "members"):
                self.assertEqual(len(rows(harbour.live.database, f"SELECT 1 FROM {name[0]} WHERE id=?", row["id"])), 1)


def undo(harbour: Harbour) -> MergeResult:
    with harbour.crew() as crew:
        return merge(harbour.home, crew, prepare_undo(harbour.home, crew, to_take_back(harbour.home, "trip", None)))


def harbour_key(table: str) -> tuple[str, ...]:
    return ("content_id", "term_id") if table == "term_links" else ("id",)


def columns(harbour: Harbour, table: str) -> list[str]:
    return [r[1] for r in rows(harbour.live.database, f"PRAGMA table_info({table})")]


def apart(one: Shape, other: Shape) -> list[object]:
    """What two shapes do not share. (unittest's own difference of such values takes minutes.)"""
    found: list[object] = []
    for table in one[0].keys() | other[0].keys():
        a, b = one[0].get(table, []), other[0].get(table, [])
        found += [(table, "first", r) for r in a if r not in b] + [(table, "second", r) for r in b if r not in a]
        if len(a) != len(b):
            found.append((table, len(a), len(b)))
    return found + sorted(p for p in one[1].keys() | other[1].keys() if one[1].get(p) != other[1].get(p))


def shape(site: Observatory) -> Shape:
    """A site's content with ids replaced by what they stand for, so that two sites compare whatever ids they gave."""
    path, address = site.database, site.address
    named = {i: f"{k}:{s}" for i, k, s in rows(path, "SELECT id, kind, slug FROM content")}
    told = {i: f"{n}:{b}" for i, n, b in rows(path, "SELECT id, name, body FROM comments")}
    skip = ("created", "modified", "joined")

    def one(table: str, row: dict[str, object]) -> tuple[object, ...]:
        values = []
        for column, value in row.items():
            if column == "id" or column in skip:
                continue
            if column in ("parent_id", "content_id", "order_id", "product_id") and value is not None:
                value = told.get(value) if (table, column) == ("comments", "parent_id") else named.get(value)
            if column == "value" and row.get("name") == "picture":
                value = named.get(int(str(value)))
            if isinstance(value, str):
                if value.startswith("{"):  # the order of a map's keys says nothing
                    value = json.dumps(json.loads(value), sort_keys=True)
                for number in sorted(named, reverse=True):
                    value = value.replace(f'="{number}"', f'="{named[number]}"')
                    value = re.sub(rf'"content": {number}(?=[,}}])', f'"content": {named[number]}', value)
                value = value.replace(address, "{site}").replace(address.replace("/", "\\/"), "{site}")
                value = value.replace(address.replace(":", "%3A").replace("/", "%2F"), "{site}")
            values.append((column, value))
        return tuple(values)

    found = {}
    local = ("address", "search-engines", "outgoing-mail", "scheduled-jobs", "staging-mark")
    for table in contents(path):
        names = [r[1] for r in rows(path, f"PRAGMA table_info({table})")]
        every = [dict(zip(names, r, strict=True)) for r in rows(path, f"SELECT * FROM {table}")]
        found[table] = sorted((one(table, r) for r in every if not (table == "settings" and r["name"] in local)),
                              key=repr)
    files = {p.relative_to(site.folder).as_posix(): p.read_bytes() for p in site.folder.rglob("*") if p.is_file()
             and p.relative_to(site.folder).parts[0] not in ("data", "outbox", "cache")
             and p.name not in ("observatory.toml", ".nostos-voyage")}
    return found, files
