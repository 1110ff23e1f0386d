"""Needs, obstacles, row writes and what the anchor is told, each looked at by itself on the lending library."""

from __future__ import annotations

from nostos.core.anchor.names import Side
from nostos.core.apply.notes import AnchorNotes
from nostos.core.plan.needs import Need, resolve
from nostos.core.plan.prepared import compare_voyage
from nostos.core.plan.row_writes import RowWrite, WriteAction, row_writes
from nostos.core.takeback.undo import prepare_undo, to_take_back
from tests.apply.test_live_differs import SmallTest
from tests.profiles.test_plain_database import library
from tests.support import Harbour, SiteTest, rows


class Planning(SiteTest):
    """A small site that no profile knows, and one change at a time."""

    def setUp(self) -> None:
        super().setUp()
        self.h = Harbour(self.folder, library(self.folder / "library"), "https://staging.library.example")
        self.live = self.h.live_folder / "store" / "library.db"
        self.staging = self.h.staging_folder / "store" / "library.db"

    def writes(self, item: str) -> list[RowWrite]:
        comparison = self.h.compare()
        return list(row_writes(comparison.rows, comparison.items[item]))

    def needs(self) -> dict[str, set[str]]:
        with self.h.crew() as crew:
            return {item: {need.on for need in some} for item, some in compare_voyage(crew)[1].items()}

    def test_rows_born_on_both_sides_are_one_by_their_natural_key_and_two_by_their_number(self) -> None:
        rows(self.staging, "INSERT INTO books (isbn, title) VALUES ('7', 'Ours')")
        rows(self.live, "INSERT INTO books (isbn, title) VALUES ('9', 'Other'), ('7', 'Ours')")
        rows(self.staging, "INSERT INTO loans (reader_id) VALUES (2)")
        rows(self.live, "INSERT INTO loans (reader_id) VALUES (2)")
        states = self.h.compare().rows.states
        books = [s for s in states.values() if s.table == "books"]
        self.assertEqual([(s.target_key, s.source_key) for s in books if s.source], [((4,), (3,))])
        self.assertEqual(sorted(str((s.target or {})["isbn"]) for s in books), ["7", "9"])
        self.assertEqual(len([s for s in states.values() if s.table == "loans"]), 2)

    def test_what_is_written(self) -> None:
        rows(self.staging, "UPDATE books SET title='Tides 2' WHERE id=1")
        rows(self.live, "UPDATE books SET shelf='B' WHERE id=1")
        rows(self.staging, "INSERT INTO shelves VALUES ('C', 'cellar')")
        rows(self.staging, "INSERT INTO books (isbn, title, shelf, sequel_of) VALUES ('3', 'Ebbs', 'C', 1)")
        edited = self.writes("books/1")
        self.assertEqual([(w.action, dict(w.values)) for w in edited], [(WriteAction.UPDATE, {"title": "Tides 2"})])
        (born,) = self.writes("books/3")
        self.assertEqual((born.action, born.values["shelf"]), (WriteAction.INSERT, "C"))
        self.assertNotIn("letters", born.values)  # it follows from the rest
        self.assertEqual(self.needs(), {"books/1": set(), "shelves/C": set(), "books/3": {"shelves/C"}})

    def test_what_stands_in_the_way(self) -> None:
        rows(self.staging, "DELETE FROM loan_items")
        rows(self.staging, "DELETE FROM books WHERE id=1")
        rows(self.live, "INSERT INTO renewals VALUES (1, 1, 1)")
        comparison = self.h.compare()
        self.assertIn("live has built on it since: renewals/1,1,1", comparison.items["loans/1"].reason)
        self.assertIn("renewals/1,1,1", comparison.items["books/1"].reason)  # by the key that it carries on
        rows(self.live, "DELETE FROM renewals")
        with self.h.crew() as crew:
            comparison, _ = compare_voyage(crew)
            database = crew.live.open(readonly=True)
            self.addCleanup(database.close)
            self.assertEqual(resolve(comparison, database)["books/1"],
                             (Need("books/1", "loans/1", "it refers to what is removed"),))

    def test_what_the_anchor_is_told(self) -> None:
        rows(self.staging, "UPDATE books SET title='Tides 2' WHERE id=1")
        rows(self.live, "INSERT INTO readers (card, name) VALUES ('R9', 'Visitor')")
        rows(self.staging, "INSERT INTO readers (card, name) VALUES ('R3', 'Cora')")
        merged = self.h.merge("*")
        lines = AnchorNotes.read(self.h.home.folder("trip") / "merges" / merged.id).lines
        self.assertIn(["row", "books", [1]], [list(line[:3]) for line in lines])
        # Staging's reader 3 is live's reader 4 from now on.
        self.assertIn(["pair", str(Side.STAGING), "readers", 3, "4"], [list(line) for line in lines])
        self.assertEqual(list(self.h.standings().values()), ["kept"])


class OnWhatLiveDid(SmallTest):
    def test_what_live_has_built_on_stays_out_of_the_bin(self) -> None:
        s = self.small("sqlite", (
            "CREATE TABLE page (id {key}, title VARCHAR(20), state VARCHAR(20))",
            "CREATE TABLE remark (id {key}, page_id INTEGER REFERENCES page(id), words VARCHAR(20))",
            "INSERT INTO page (title, state) VALUES ('tides', 'shown'), ('winds', 'shown')"),
            'editors = ["page"]\n[[kind]]\nname = "page"\ntable = "page"\nlabel = "title"\ngone = { state = "bin" }\n')
        s.sql("staging", "UPDATE page SET state = 'bin'")
        s.sql("live", "INSERT INTO remark (page_id, words) VALUES (1, 'Lovely')")
        items = s.compare().items
        self.assertIn("live has built on it since: remark/1", items["page/tides"].reason)
        self.assertEqual(items["page/winds"].standing, "homeward")

    def test_what_comes_back_needs_what_it_pointed_at(self) -> None:
        s = self.small("sqlite", (
            "CREATE TABLE page (id {key}, title VARCHAR(20))",
            "CREATE TABLE note (id {key}, page_id INTEGER REFERENCES page(id), words VARCHAR(20))",
            "INSERT INTO page (title) VALUES ('tides'), ('winds')",
            "INSERT INTO note (page_id, words) VALUES (2, 'x')"))
        s.sql("staging", "DELETE FROM note")
        s.merge("*")
        s.sql("live", "DELETE FROM page WHERE id=2")
        with s.crew() as crew:
            ready = prepare_undo(s.home, crew, to_take_back(s.home, "trip", None))
        self.assertEqual({i.id: i.reason for i in ready.plan.selection.clashes},
                         {"note/1": "its page_id points at page 2, which live has removed since"})

    def test_a_number_that_came_home_under_another_is_nobodys_here(self) -> None:
        """A page that staging made and that live knows by another number: a new note's bare number may mean it."""
        s = self.small("sqlite", ("CREATE TABLE page (id INTEGER PRIMARY KEY AUTOINCREMENT, title VARCHAR(20))",
                                  "CREATE TABLE note (id {key}, words VARCHAR(90))",
                                  "INSERT INTO page (id, title) VALUES (4811, 'tides'), (4812, 'winds')",
                                  "INSERT INTO note (words) VALUES ('see /page/4811'), ('see /page/4812')"),
                       'editors = ["page", "note"]\n')
        s.sql("staging", "INSERT INTO page (title) VALUES ('made here')")
        s.sql("live", "INSERT INTO page (title) VALUES ('made there')")
        s.merge("*")
        s.sql("staging", "INSERT INTO note (words) VALUES ('{\"goes_with\": 4813}')")
        s.merge("*")
        self.assertEqual(s.sql("live", "SELECT title FROM page WHERE id=4814"), [("made here",)])
        self.assertEqual(s.sql("live", "SELECT words FROM note WHERE id=3"), [('{"goes_with": 4814}',)])
