"""Schemas: what staging gained, changed and dropped, on SQLite."""

import sqlite3
import unittest

from nostos.core.apply.merge import merge
from nostos.core.database.column_types import widens
from nostos.core.database.schema import Column
from nostos.core.errors import SelectionError
from nostos.core.plan.prepared import prepare
from nostos.core.plan.selection import Choice
from nostos.core.takeback.undo import prepare_undo, to_take_back
from tests.apply.test_live_differs import SmallTest
from tests.small import ENGINES
from tests.support import Harbour, SiteTest, rows


class Widening(unittest.TestCase):
    def test_what_fits_into_what(self) -> None:
        for old, new, fits in (
                ("varchar(50)", "varchar(100)", True), ("varchar(100)", "varchar(50)", False),
                ("varchar(50)", "text", True), ("varchar(50)", "tinytext", True), ("varchar(99)", "tinytext", False),
                ("int(10) unsigned", "bigint(20) unsigned", True), ("bigint", "int", False),
                ("int(10) unsigned", "bigint(20)", False), ("text", "longtext", True), ("longtext", "text", False),
                ("decimal(9,2)", "decimal(10,3)", True), ("decimal(9,2)", "decimal(9,3)", False),
                ("enum('a','b')", "enum('a','b','c')", True), ("enum('a','b')", "enum('b','a')", False),
                ("int", "text", False), ("TEXT", "text", True)):
            one, other = (Column("c", d, True, None) for d in (old, new))
            self.assertEqual(widens(one, other), fits, (old, new))
        wide, narrow = Column("c", "text", True, None), Column("c", "text", False, "''")
        self.assertEqual((widens(narrow, wide), widens(wide, narrow)), (True, False))


class PlainTest(SiteTest):
    """A voyage of a site of plain tables."""

    SCHEMA = ""

    def setUp(self) -> None:
        super().setUp()
        site = self.folder / "site"
        site.mkdir()
        self.sql(site, self.SCHEMA)
        (site / "nostos.toml").write_text('editors = ["*"]\n[site]\nname = "l"\nurl = "https://l.example"\n'
                                          'database = "sqlite:///x.db"\n')
        self.h = Harbour(self.folder, site)

    def sql(self, folder: object, script: str) -> None:
        connection = sqlite3.connect(f"{folder}/x.db")
        connection.executescript(script)
        connection.close()

    def live(self, query: str) -> list[tuple[object, ...]]:
        return rows(self.h.live_folder / "x.db", query)


class Schema(PlainTest):
    SCHEMA = ("CREATE TABLE books (id INTEGER PRIMARY KEY, title TEXT, legacy TEXT DEFAULT 'no');"
                       "CREATE TABLE old_say (id INTEGER PRIMARY KEY, said TEXT);"
                       "CREATE INDEX by_title ON books(title);"
                       "INSERT INTO books (title) VALUES ('One'), ('Two'); INSERT INTO old_say (said) VALUES ('x')")

    def test_a_column_that_may_not_be_empty_and_has_no_default(self) -> None:
        """As most migration tools make it: the table is built anew, with a value for each row."""
        self.sql(self.h.staging_folder,
                 """CREATE TABLE new (id INTEGER PRIMARY KEY, title TEXT, legacy TEXT DEFAULT 'no',
                 pages INTEGER NOT NULL, blurb TEXT NOT NULL);
            INSERT INTO new SELECT id, title, legacy, 0, '' FROM books; UPDATE new SET pages = 120 WHERE id = 1;
            DROP TABLE books; ALTER TABLE new RENAME TO books; CREATE INDEX by_title ON books(title)""")
        self.sql(self.h.live_folder, "INSERT INTO books (title) VALUES ('Live own')")
        self.assertEqual(self.h.standings(), {"column/books.pages": "homeward", "column/books.blurb": "homeward",
                                              "books/1": "homeward", "books/3": "kept"})
        self.h.merge()
        self.assertEqual(self.live("SELECT id, pages, blurb FROM books"), [(1, 120, ""), (2, 0, ""), (3, 0, "")])
        self.assertEqual({r[1:5] for r in self.live("PRAGMA table_info(books)")[3:]},
                         {("pages", "INTEGER", 1, None), ("blurb", "TEXT", 1, None)})
        self.assertEqual(self.live("PRAGMA integrity_check"), [("ok",)])
        with self.assertRaisesRegex(sqlite3.IntegrityError, "NOT NULL"):
            self.sql(self.h.live_folder, "INSERT INTO books (title) VALUES ('x')")
        self.assertEqual(self.h.standings(), {"books/3": "kept"})

    def test_drops_go_home_only_when_they_are_named(self) -> None:
        self.sql(self.h.staging_folder, "DROP TABLE old_say; DROP INDEX by_title; ALTER TABLE books DROP COLUMN legacy;"
                                        "UPDATE books SET title='Uno' WHERE id=1")
        self.sql(self.h.live_folder, "INSERT INTO books (title) VALUES ('Three')")
        self.assertEqual(self.h.standings(), {
            "books/1": "homeward", "books/3": "kept", "column/books.legacy": "homeward", "index/by_title": "homeward",
            "table/old_say": "homeward"})
        self.h.merge()
        self.assertEqual(self.live("SELECT title, legacy FROM books"), [("Uno", "no"), ("Two", "no"), ("Three", "no")])
        self.h.merge("*")
        self.assertEqual(self.live("SELECT count(*) FROM old_say"), [(1,)])
        self.h.merge("column/books.legacy", "table/old_say")
        self.assertEqual(self.live("SELECT * FROM books"), [(1, "Uno"), (2, "Two"), (3, "Three")])
        self.assertEqual(self.live("SELECT name FROM sqlite_master WHERE name IN ('old_say', 'by_title')"),
                         [("by_title",)])
        kept = [p.name for p in (self.h.home.folder("trip") / "merges").rglob("dropped/*")]
        self.assertEqual(sorted(kept), ["column-books-legacy.jsonl.zst", "table-old_say-old_say.jsonl.zst"])
        self.assertEqual(self.h.standings(), {"books/3": "kept", "index/by_title": "homeward"})
        self.sql(self.h.staging_folder, "UPDATE books SET title='Dos' WHERE id=2")
        self.h.merge()
        self.assertEqual(self.live("SELECT title FROM books WHERE id=2"), [("Dos",)])

    def test_what_was_dropped_comes_back(self) -> None:
        self.sql(self.h.live_folder, "INSERT INTO old_say (said) VALUES (x'00ff'); "
                                     "UPDATE books SET legacy = title")
        self.h.refresh()
        everything = "SELECT * FROM books", "SELECT * FROM old_say", "SELECT sql FROM sqlite_master ORDER BY name"
        before = [self.live(sql) for sql in everything[:2]]
        self.sql(self.h.staging_folder, "DROP TABLE old_say; DROP INDEX by_title; ALTER TABLE books DROP COLUMN legacy;"
                                        "CREATE TABLE shelves (id INTEGER PRIMARY KEY, room TEXT);"
                                        "INSERT INTO shelves (room) VALUES ('north');"
                                        "ALTER TABLE books ADD COLUMN pages INTEGER DEFAULT 0;")
        drops = ("column/books.legacy", "table/old_say", "index/by_title")
        for schema in (True, False):
            self.h.merge("*", *drops)
            self.assertEqual(self.h.standings(), {})
            with self.h.crew() as crew:
                merge(self.h.home, crew, prepare_undo(self.h.home, crew, to_take_back(self.h.home, "trip", None),
                                                      schema=schema))
            there = {n for (n,) in self.live("SELECT name FROM sqlite_master")}
            self.assertTrue({"old_say", "by_title"} <= there)
            self.assertEqual("shelves" in there, not schema)
            self.assertEqual(self.live("SELECT * FROM old_say"), before[1])
            self.assertEqual(sorted(self.live("SELECT id, title, legacy FROM books")), sorted(before[0]))
            self.assertTrue(set(drops) <= set(self.h.homeward()))

    def test_what_live_wrote_into_since_is_not_dropped(self) -> None:
        self.sql(self.h.staging_folder, "DROP TABLE old_say; ALTER TABLE books DROP COLUMN legacy")
        self.sql(self.h.live_folder, "INSERT INTO old_say (said) VALUES ('y');"
                                     "UPDATE books SET legacy='yes' WHERE id=2")
        found = self.h.standings()
        self.assertEqual((found["table/old_say"], found["column/books.legacy"]), ("clash", "clash"))
        self.h.merge("table/old_say")
        self.assertEqual(self.live("SELECT count(*) FROM old_say"), [(2,)])

    def test_a_column_defined_anew(self) -> None:
        self.sql(self.h.staging_folder,
                 "CREATE TABLE n (id INTEGER PRIMARY KEY, title TEXT NOT NULL, legacy TEXT DEFAULT 'maybe');"
                 "INSERT INTO n SELECT * FROM books; DROP TABLE books; ALTER TABLE n RENAME TO books;"
                 "CREATE INDEX by_title ON books(title)")
        self.assertEqual(self.h.standings(), {"column/books.legacy": "homeward", "column/books.title": "homeward"})
        self.h.merge()
        self.sql(self.h.live_folder, "INSERT INTO books (title) VALUES ('Four')")
        self.assertEqual(self.live("SELECT legacy FROM books WHERE title='Four'"), [("maybe",)])
        self.sql(self.h.live_folder, "ALTER TABLE books ADD COLUMN pages INTEGER")
        found = self.h.compare()
        self.assertEqual({i.id for i in found.items.values() if i.schema}, {"column/books.pages"})

    def test_a_unique_index_that_live_breaks(self) -> None:
        self.sql(self.h.staging_folder, "CREATE UNIQUE INDEX one_title ON books(title)")
        self.sql(self.h.live_folder, "INSERT INTO books (title) VALUES ('One')")
        item = self.h.compare().items["index/one_title"]
        self.assertEqual((str(item.standing), item.reason),
                         ("clash", "live has rows with the same title, which it would forbid"))
        self.sql(self.h.live_folder, "DELETE FROM books WHERE id=3")
        self.h.merge()
        with self.assertRaises(sqlite3.IntegrityError):
            self.sql(self.h.live_folder, "INSERT INTO books (title) VALUES ('One')")

    def test_a_narrowing_that_live_breaks(self) -> None:
        self.sql(self.h.staging_folder,
                 "CREATE TABLE n (id INTEGER PRIMARY KEY, title TEXT NOT NULL, legacy TEXT DEFAULT 'no');"
                 "INSERT INTO n SELECT * FROM books; DROP TABLE books; ALTER TABLE n RENAME TO books;"
                 "CREATE INDEX by_title ON books(title)")
        self.h.merge()
        self.assertEqual(self.h.standings(), {"column/books.title": "homeward"})  # it narrows: not named, not taken
        self.sql(self.h.live_folder, "INSERT INTO books (title) VALUES (NULL)")
        self.assertEqual(self.h.standings()["column/books.title"], "clash")
        self.sql(self.h.live_folder, "DELETE FROM books WHERE title IS NULL")
        self.h.merge("column/books.title")
        with self.assertRaises(sqlite3.IntegrityError):
            self.sql(self.h.live_folder, "INSERT INTO books (title) VALUES (NULL)")
        with self.assertRaises(SelectionError):
            self.h.merge("column/books.none")


class WhatAnUpdateAdds(SmallTest):
    def test_a_column_that_points_at_something_whether_it_is_declared_or_not(self) -> None:
        rows = ", ".join(f"('{n}')" for n in range(60))
        schema = ("CREATE TABLE tour (id {key}, slug VARCHAR(40) NOT NULL)", f"INSERT INTO tour (slug) VALUES {rows}",
                  "CREATE TABLE piece (id {key}, body VARCHAR(40))", f"INSERT INTO piece (body) VALUES {rows}")
        for engine in ENGINES:
            for declared, which in ((" REFERENCES tour (id)", "id = 1"), ("", "id < 41")):
                with self.subTest(engine, declared=declared):
                    s = self.small(engine, schema, 'editors = ["tour", "piece"]\n')
                    s.sql("live", "INSERT INTO tour (slug) VALUES ('live')")
                    s.sql("staging", "INSERT INTO tour (slug) VALUES ('staging')")
                    s.sql("staging", f"ALTER TABLE piece ADD tour_id INTEGER{declared}")
                    s.sql("staging", f"UPDATE piece SET tour_id = 62 - id WHERE {which}")
                    with s.crew() as crew:
                        ready = prepare(crew)
                        self.assertEqual((), ready.comparison.questions)
                        merge(s.home, crew, ready)
                    self.assertEqual([("staging",)], s.sql(
                        "live", "SELECT slug FROM tour JOIN piece ON piece.tour_id = tour.id WHERE piece.id = 1"))


class Uniques(PlainTest):
    """Values that must not repeat, moved around between rows: found in preparing, and never in the way."""

    SCHEMA = ("CREATE TABLE seats (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, n INTEGER UNIQUE);"
              "INSERT INTO seats (name, n) VALUES ('a', 1), ('b', 2), ('c', 3)")

    def seats(self) -> list[tuple[object, ...]]:
        return self.live("SELECT id, name, n FROM seats ORDER BY id")

    def test_a_ring_of_three_and_a_new_one(self) -> None:
        self.sql(self.h.staging_folder,
                 "UPDATE seats SET name='x' WHERE id=1; UPDATE seats SET name='a' WHERE id=2;"
                 "UPDATE seats SET name='b' WHERE id=3; UPDATE seats SET name='c' WHERE id=1;"
                 "UPDATE seats SET n=9 WHERE id=2; INSERT INTO seats (name, n) VALUES ('d', 2)")
        with self.h.crew() as crew:
            chosen = {c.item.id for c in prepare(crew, Choice(("seats/2",))).plan.selection.chosen}
        self.assertEqual(chosen, {"seats/1", "seats/2", "seats/3"})
        self.h.merge()
        self.assertEqual(self.seats(), [(1, "c", 1), (2, "a", 9), (3, "b", 3), (4, "d", 2)])

    def test_what_live_gave_out_meanwhile_is_told(self) -> None:
        self.sql(self.h.staging_folder, "UPDATE seats SET name='z' WHERE id=1")
        self.sql(self.h.live_folder, "INSERT INTO seats (name) VALUES ('z')")
        item = self.h.compare().items["seats/1"]
        self.assertEqual(item.reason, "live already has seats/4 with the same name 'z'")
        self.h.merge()
        self.assertEqual(self.seats()[0], (1, "a", 1))
