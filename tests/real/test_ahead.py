"""Edits that are worked out before the transaction: what visitors do until the rows are held, on both servers."""

from __future__ import annotations

import unittest
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

import psycopg
import pymysql

from nostos.core.anchor.open_voyage import opened
from nostos.core.apply import merge as merging
from nostos.core.apply.notes import AnchorNotes
from nostos.core.apply.rows import ahead
from nostos.core.apply.rows.write import RowWork
from nostos.core.clone.clone import clone
from nostos.core.errors import MergeRefused, NostosError, TargetMoved
from nostos.core.plan.prepared import prepare
from nostos.core.plan.selection import Choice
from nostos.core.profiles.parts import CounterRule
from nostos.core.profiles.row_trees import RowTree
from nostos.core.takeback.undo import prepare_undo, to_take_back
from nostos.core.voyages.home import Home
from nostos.core.voyages.journal import undo_of
from tests.real.postgres import missing as no_postgres
from tests.real.postgres import postgres
from tests.real.servers import mariadb, missing
from tests.support import SiteTest

PAGES = 60
SCHEMA = ("CREATE TABLE pages (id serial PRIMARY KEY, slug varchar(30) NOT NULL UNIQUE, title varchar(40), body text, "
          "hits int NOT NULL DEFAULT 0, up int, FOREIGN KEY (up) REFERENCES pages (id))",
          "CREATE TABLE parts (id serial PRIMARY KEY, page int NOT NULL, said text, "
          "FOREIGN KEY (page) REFERENCES pages (id))",
          "INSERT INTO pages (slug, title, body) VALUES " + ", ".join(
              f"('page-{n}', 'Page {n}', 'Of {n}, at https://library.example')" for n in range(1, PAGES + 1)))
EDIT = "UPDATE pages SET title = CONCAT('New ', title)"


@unittest.skipIf(missing(), missing())
class OnMariaDB(SiteTest):
    late: type[Exception] = pymysql.MySQLError

    def setUp(self) -> None:
        super().setUp()
        self.server: Any = self.started()
        self.live = self.server.new_database()
        for statement in SCHEMA:
            self.sql(statement.replace("serial", "int AUTO_INCREMENT") if self.auto else statement)
        (self.folder / "live").mkdir()
        (self.folder / "live/nostos.toml").write_text(
            f'editors = ["*"]\n[site]\nname = "l"\nurl = "https://library.example"\ndatabase = \'{self.url()}\'\n')
        self.home = Home(self.folder / "home")
        self.staging = clone(self.home, self.folder / "live", "trip", self.folder / "staging",
                             "https://staging.example").voyage.place
        self.drafts: list[ahead.DraftedTable] = []

    auto = True

    def started(self) -> Any:
        return mariadb()

    def url(self) -> str:
        return f"mysql://root@/{self.live}?unix_socket={self.server.socket}"

    def sql(self, statement: str, database: str = "") -> list[tuple[Any, ...]]:
        return self.server.run(statement, database=database or self.live)

    def visit(self, statement: str) -> None:
        """What a visitor does, who does not wait for long."""
        self.sql(f"SET STATEMENT innodb_lock_wait_timeout = 1 FOR {statement}")

    def rows(self, table: str) -> list[tuple[Any, ...]]:
        return self.sql(f"SELECT * FROM {table} ORDER BY id")

    def merge(self, meanwhile: Callable[[], None] = lambda: None, undo: bool = False,
              first: Callable[[], None] = lambda: None) -> Path:
        """Merge, with something that happens once when all is worked out and nothing is held yet, or before anything is
        written. Returns the merge's folder."""
        real, left = merging.apply_rows, [meanwhile]

        def apply(work: RowWork, beforehand: Callable[[Any], None]) -> Any:
            def then(done: Any) -> None:
                beforehand(done)
                while left:
                    left.pop()()

            self.drafts = list(work.drafts)
            first()
            done = real(work, then)
            self.ahead = set(work.ahead)
            return done

        with opened(self.home, self.home.read("trip")) as crew, mock.patch.object(merging, "apply_rows", apply):
            done = merging.merge(self.home, crew, prepare_undo(self.home, crew, to_take_back(self.home, "trip", None))
                                 if undo else prepare(crew, Choice(everyone=True)))
        return self.home.folder("trip") / "merges" / done.id

    def test_what_visitors_write_until_the_rows_are_held(self) -> None:
        before = self.rows("pages")
        self.sql(EDIT, self.staging)
        self.sql("INSERT INTO parts (page, said) SELECT id, title FROM pages", self.staging)
        folder = self.merge(lambda: self.visit("UPDATE pages SET hits = 7 WHERE id = 3"))
        for place, told in (("undo", [(r["table"], *r["key"]) for r in undo_of(folder)["rows"]]),
                            ("notes", [(t, *key) for what, t, key, *_ in AnchorNotes.read(folder).lines if what == "row"
                                       ])):
            self.assertEqual((place, len(told)), (place, len(set(told))))  # nothing is told twice
            self.assertEqual(len(told), 2 * PAGES)
        self.assertEqual((len(self.drafts), len(self.ahead)), (1, 0))  # one was another by then: looked at again, all
        self.assertEqual([(r[2], r[4]) for r in self.rows("pages")],
                         [(f"New Page {n}", 7 if n == 3 else 0) for n in range(1, PAGES + 1)])
        self.assertEqual(len(self.rows("parts")), PAGES)
        self.merge(undo=True)
        self.assertEqual(self.rows("pages"), [(*r[:4], 7, r[5]) if r[0] == 3 else r for r in before])
        self.assertEqual(self.rows("parts"), [])
        self.merge()  # the anchor knows what was taken back
        self.assertEqual((len(self.ahead), {r[2][:3] for r in self.rows("pages")}), (PAGES, {"New"}))
        with opened(self.home, self.home.read("trip")) as crew:
            self.assertFalse(prepare(crew, Choice(everyone=True)).acts)

    def test_rows_are_held_until_the_end(self) -> None:
        self.sql(EDIT, self.staging)

        def late(work: RowWork) -> None:
            with self.assertRaises(self.late):
                self.visit("UPDATE pages SET title = 'too late' WHERE id = 6")

        with mock.patch.object(RowWork, "_remove_all", late):
            self.merge()
        self.assertEqual(self.rows("pages")[5][2], "New Page 6")

    def test_a_visitor_who_writes_the_same(self) -> None:
        self.sql(EDIT, self.staging)
        self.sql("INSERT INTO parts (page, said) VALUES (4, 'new')", self.staging)
        with self.assertRaises(TargetMoved):
            self.merge(lambda: self.visit("UPDATE pages SET title = 'A visitor''s' WHERE id = 4"))
        self.assertEqual([r[2] for r in self.rows("pages")],
                         [f"Page {n}" if n != 4 else "A visitor's" for n in range(1, PAGES + 1)])
        self.assertEqual(self.rows("parts"), [])

    def test_what_new_rows_point_at_is_removed_meanwhile(self) -> None:
        self.sql(EDIT, self.staging)
        self.sql("INSERT INTO parts (page, said) VALUES (5, 'new')", self.staging)
        self.sql("UPDATE pages SET title = 'Page 5' WHERE id = 5", self.staging)  # so nothing but the part asks for it
        with mock.patch("nostos.core.plan.operations.Plan.about", autospec=True, side_effect=_without_row_there), \
                suppress(self.late, NostosError):  # either the page goes, or the part comes
            self.merge(first=lambda: self.visit("DELETE FROM pages WHERE id = 5"))
        self.assertEqual([r[1] for r in self.rows("parts")], [r[0] for r in self.rows("pages") if r[0] == 5])

    def test_an_edit_points_at_what_is_new(self) -> None:
        self.sql(EDIT, self.staging)
        self.sql("INSERT INTO pages (slug, title) VALUES ('new', 'Staging''s')", self.staging)
        self.sql("INSERT INTO pages (slug, title) VALUES ('live', 'Live''s')")
        self.sql("UPDATE pages SET up = (SELECT id FROM (SELECT MAX(id) AS id FROM pages) p) WHERE id = 7",
                 self.staging)
        self.merge()
        (up,) = self.sql("SELECT u.title FROM pages p JOIN pages u ON u.id = p.up WHERE p.id = 7")
        self.assertEqual((up, len(self.ahead)), (("Staging's",), PAGES - 1))

    def test_what_hangs_on_the_transaction_waits_for_it(self) -> None:
        self.sql(EDIT, self.staging)
        with opened(self.home, self.home.read("trip")) as crew:
            prepared = prepare(crew, Choice(everyone=True))
            plan, rows, database = prepared.plan, prepared.comparison.rows, self.opened()
            tables = database.tables()
            self.assertEqual([len(v) for v in ahead.may_be_drafted(plan, rows, database, tables).values()], [PAGES])
            for name, profile, other in (
                    ("trees", replace(rows.profile, trees=(RowTree("pages", path="body", step=4),)), plan),
                    ("counters", replace(rows.profile, derived=(CounterRule("pages", "hits", "pages", "up"),)), plan),
                    ("two edits", rows.profile, replace(plan, operations=plan.operations * 2)),
                    ("a key", rows.profile, replace(plan, operations=tuple(
                        replace(o, values={**o.values, "id": 1}) for o in plan.operations)))):
                with self.subTest(name):
                    self.assertEqual(ahead.may_be_drafted(other, replace(rows, profile=profile), database, tables), {})

    def test_names_change_places(self) -> None:
        self.sql(EDIT, self.staging)
        for n, slug in ((1, "x"), (2, "page-1"), (1, "page-2")):
            self.sql(f"UPDATE pages SET slug = '{slug}' WHERE id = {n}", self.staging)
        self.merge()
        self.assertEqual(([r[1] for r in self.rows("pages")][:3], len(self.ahead)), (["page-2", "page-1", "page-3"],
                                                                                      PAGES))

    def test_a_row_that_is_refused_is_named(self) -> None:
        self.sql(EDIT, self.staging)
        self.sql("UPDATE pages SET slug = 'moon' WHERE id = 9", self.staging)
        before = self.rows("pages")
        with self.assertRaisesRegex(MergeRefused, "page.*9"):
            self.merge(lambda: self.visit("INSERT INTO pages (slug, title) VALUES ('moon', 'A visitor''s')"))
        self.assertEqual([r[:3] for r in self.rows("pages")][:-1], [r[:3] for r in before])

    def test_what_a_database_does_unknown(self) -> None:
        """A trigger that nobody told of: what it did is found, and taken back with the rest."""
        before = self.rows("pages")
        self.sql(EDIT, self.staging)
        self.trigger()
        database = f"{type(self.opened()).__module__}.{type(self.opened()).__qualname__}"
        with mock.patch(f"{database}.triggered", return_value=set()), mock.patch(
                f"{database}.side_effects", return_value=set()):
            self.merge()
        self.assertEqual({r[4] for r in self.rows("pages")}, {1})
        self.assertEqual((len(self.drafts), len(self.ahead)), (1, 0))
        self.sql("DROP TRIGGER counts" + self.of)
        self.merge(undo=True)
        self.assertEqual(self.rows("pages"), before)
        self.trigger()
        self.merge()
        self.assertEqual(self.drafts, [])  # one that is told of

    of = ""

    def trigger(self) -> None:
        self.sql("CREATE TRIGGER counts BEFORE UPDATE ON pages FOR EACH ROW SET NEW.hits = NEW.hits + 1")

    def opened(self) -> Any:
        from nostos.core.sites.recognise import recognise
        database = recognise(str(self.folder / "live")).open()
        self.addCleanup(database.close)
        return database


def _without_row_there(plan: Any, kind: type) -> Any:
    from nostos.core.plan.conditions import RowThere
    return () if kind is RowThere else tuple(c for c in plan.conditions if isinstance(c, kind))


@unittest.skipIf(no_postgres(), no_postgres())
class OnPostgreSQL(OnMariaDB):
    auto = False
    late = psycopg.Error
    of = " ON pages"

    def started(self) -> Any:
        return postgres()

    def url(self) -> str:
        return str(self.server.url(self.live))

    def sql(self, statement: str, database: str = "") -> list[tuple[Any, ...]]:
        role = "" if statement.startswith("SELECT") else "SET ROLE live; "
        return self.server.run(role + statement, database or self.live)

    def test_a_role_that_may_set_nothing_aside(self) -> None:
        self.server.run(f"REVOKE TEMPORARY ON DATABASE {self.live} FROM PUBLIC, live")
        self.sql(EDIT, self.staging)
        self.merge()
        self.assertEqual((self.drafts, {r[2][:3] for r in self.rows("pages")}), ([], {"New"}))

    def visit(self, statement: str) -> None:
        self.sql(f"SET lock_timeout = '1s'; {statement}")

    def trigger(self) -> None:
        self.sql("CREATE OR REPLACE FUNCTION count_one() RETURNS trigger LANGUAGE plpgsql AS "
                 "'BEGIN NEW.hits := NEW.hits + 1; RETURN NEW; END'")
        self.sql("CREATE TRIGGER counts BEFORE UPDATE ON pages FOR EACH ROW EXECUTE FUNCTION count_one()")
