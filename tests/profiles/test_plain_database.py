"""A site that no profile knows: a lending library, told only by its declared keys."""

import sqlite3
from pathlib import Path

from nostos.around.survey import survey
from nostos.core.sites.recognise import recognise
from tests.support import Harbour, SiteTest, contents, rows

SCHEMA = """
CREATE TABLE readers (id INTEGER PRIMARY KEY AUTOINCREMENT, card TEXT NOT NULL UNIQUE, name TEXT);
CREATE TABLE shelves (code TEXT PRIMARY KEY, room TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE books (id INTEGER PRIMARY KEY AUTOINCREMENT, isbn TEXT UNIQUE, title TEXT NOT NULL,
                    shelf TEXT REFERENCES shelves(code), sequel_of INTEGER REFERENCES books(id), cover BLOB,
                    options JSON, letters INTEGER GENERATED ALWAYS AS (length(title)) STORED);
CREATE TABLE loans (id INTEGER PRIMARY KEY AUTOINCREMENT, reader_id INTEGER NOT NULL REFERENCES readers(id),
                    since TEXT);
CREATE TABLE loan_items (loan_id INTEGER NOT NULL REFERENCES loans(id), book_id INTEGER NOT NULL REFERENCES books(id),
                         due TEXT, PRIMARY KEY (loan_id, book_id));
CREATE TABLE renewals (loan_id INTEGER, book_id INTEGER, turn INTEGER, PRIMARY KEY (loan_id, book_id, turn),
                       FOREIGN KEY (loan_id, book_id) REFERENCES loan_items (loan_id, book_id));
CREATE TABLE covers (book_id INTEGER PRIMARY KEY REFERENCES books(id), note TEXT);
CREATE TABLE scribbles (text TEXT);
CREATE VIEW lent AS SELECT title FROM books JOIN loan_items ON book_id = books.id;
CREATE TRIGGER stamp AFTER UPDATE OF title ON books BEGIN INSERT INTO scribbles VALUES ('renamed'); END;
INSERT INTO readers (card, name) VALUES ('R1', 'Ada Quill'), ('R2', 'Ben of https://library.example');
INSERT INTO shelves VALUES ('A', 'north'), ('B', 'south');
INSERT INTO books (isbn, title, shelf, cover, options) VALUES
  ('1', 'Tides', 'A', x'00ff', '{"size": 1, "home": "https://library.example/1"}'),
  ('2', 'Winds', 'B', NULL, NULL);
INSERT INTO loans (reader_id, since) VALUES (1, '2026-01-01');
INSERT INTO loan_items VALUES (1, 1, '2026-02-01');
INSERT INTO scribbles VALUES ('see https://library.example'), ('see https://library.example');
"""
SITE_FILE = """# the library
editors = ["*"]
[site]
name = "library"
url = "https://library.example"   # its address
database = "sqlite:///store/library.db"
files = "htdocs"
"""


def library(folder: Path) -> Path:
    (folder / "store").mkdir(parents=True)
    (folder / "htdocs").mkdir()
    (folder / "htdocs" / "index.html").write_text("<h1>Library</h1>\n")
    (folder / "nostos.toml").write_text(SITE_FILE)
    connection = sqlite3.connect(folder / "store" / "library.db")
    connection.executescript(SCHEMA)
    connection.close()
    return folder


class Library(SiteTest):
    def setUp(self) -> None:
        super().setUp()
        self.h = Harbour(self.folder, library(self.folder / "library"), "https://staging.library.example")
        self.live = self.h.live_folder / "store" / "library.db"
        self.staging = self.h.staging_folder / "store" / "library.db"

    def run_sql(self, path: Path, script: str) -> None:
        connection = sqlite3.connect(path)
        connection.execute("PRAGMA foreign_keys = ON")
        connection.executescript(script)
        connection.close()

    def test_the_copy_is_equal_and_a_site_of_its_own(self) -> None:
        self.assertEqual(self.h.standings(), {})
        copy, original = repr(contents(self.staging)), repr(contents(self.live))
        self.assertEqual(copy.replace("staging.library.example", "library.example"), original)
        self.assertEqual(copy.count("staging.library.example"), original.count("library.example"))
        for kind in ("view", "trigger", "table", "index"):
            names = f"SELECT name, sql FROM sqlite_master WHERE type='{kind}' AND name NOT LIKE 'sqlite%' ORDER BY name"
            self.assertEqual(rows(self.staging, names), rows(self.live, names))
        text = (self.h.staging_folder / "nostos.toml").read_text()
        self.assertIn("# the library", text)
        self.assertIn("# its address", text)
        self.assertEqual(recognise(self.h.staging_folder).url, "https://staging.library.example")

    def test_loans_come_home_under_new_ids(self) -> None:
        self.run_sql(self.staging, """
            INSERT INTO shelves VALUES ('C', 'attic');
            INSERT INTO books (isbn, title, shelf, sequel_of)
              VALUES ('3', 'More tides', 'C', 1), ('4', 'Last tides', 'C', 3);
            INSERT INTO covers VALUES (3, 'blue');
            INSERT INTO readers (card, name) VALUES ('R9', 'Zoe Lark');
            INSERT INTO loans (reader_id, since) VALUES (3, 'staging');
            INSERT INTO loan_items VALUES (2, 4, 'soon');
            INSERT INTO renewals VALUES (2, 4, 1);
            UPDATE books SET options = '{"size": 2, "home": "https://staging.library.example/1"}' WHERE id = 1;
            """)
        self.run_sql(self.live, """
            INSERT INTO books (isbn, title, shelf) VALUES ('7', 'Rain', 'A'), ('8', 'Snow', 'A'), ('9', 'Hail', 'B');
            INSERT INTO readers (card, name) VALUES ('R5', 'Kit Moss');
            INSERT INTO loans (reader_id, since) VALUES (3, 'live'), (3, 'live');
            INSERT INTO loan_items VALUES (2, 3, 'live'), (2, 4, 'live');
            UPDATE books SET shelf = 'B' WHERE id = 1;
            """)
        gained = set(contents(self.live)["loan_items"])
        with self.h.crew():
            self.h.merge("renewals/*", "covers/*", "books/1")
        self.assertEqual(rows(self.live, "PRAGMA foreign_key_check"), [])
        self.assertLessEqual(gained, set(contents(self.live)["loan_items"]))
        self.assertEqual(rows(self.live, (
            "SELECT r.card, b.isbn, s.isbn, b.shelf, turn FROM renewals JOIN loan_items i USING (loan_id, book_id) "
            "JOIN loans l ON l.id = loan_id JOIN readers r ON r.id = reader_id JOIN books b ON b.id = book_id "
            "JOIN books s ON s.id = b.sequel_of")), [("R9", "4", "3", "C", 1)])
        self.assertEqual(rows(self.live, "SELECT isbn, note, letters FROM covers JOIN books ON id = book_id"),
                         [("3", "blue", 10)])
        self.assertEqual(rows(self.live, "SELECT shelf, options FROM books WHERE id=1"),
                         [("B", '{"size": 2, "home": "https://library.example/1"}')])
        self.assertEqual(self.h.homeward(), [])

    def test_one_number_given_out_twice_is_two_things(self) -> None:
        self.run_sql(self.staging, "INSERT INTO readers (card, name) VALUES ('R5', 'From staging')")
        self.run_sql(self.live, "INSERT INTO readers (card, name) VALUES ('R4', 'x'), ('R5', 'From live')")
        self.assertEqual(self.h.standings(), {"readers/3~live": "kept", "readers/3~staging": "clash",
                                              "readers/4": "kept"})
        self.assertIn("already has readers/4", self.h.compare().items["readers/3~staging"].reason)

    def test_taken_unique_values_are_found_before_anything_is_written(self) -> None:
        self.run_sql(self.staging, "UPDATE books SET isbn = '77' WHERE id = 1")
        self.run_sql(self.live, "UPDATE books SET isbn = '77' WHERE id = 2")
        self.assertIn("already has books/2", self.h.compare().items["books/1"].reason)

    def test_a_key_given_out_again(self) -> None:
        """Both sides' id 3 are different things, and both are told by name."""
        self.run_sql(self.staging, "INSERT INTO loans (reader_id) VALUES (1)")
        self.run_sql(self.live, "INSERT INTO loans (reader_id) VALUES (2)")
        self.assertEqual(self.h.standings(), {"loans/2~live": "kept", "loans/2~staging": "homeward"})

    def test_a_table_without_a_key(self) -> None:
        found = survey(recognise(self.h.live_folder))
        self.assertEqual([(f.what, str(f.whose)) for f in found.obstacles],
                         [("The table scribbles has no key.", "the extension's author")])
        self.run_sql(self.staging, "INSERT INTO scribbles VALUES ('new')")
        comparison = self.h.compare()
        self.assertEqual((comparison.items, comparison.rows.skipped), ({}, ["scribbles"]))
