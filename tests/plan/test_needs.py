"""Needs, obstacles, row writes and what the anchor is told, each looked at by itself on the lending library."""

from __future__ import annotations

from nostos.core.anchor.names import Side
from nostos.core.apply.notes import AnchorNotes
from nostos.core.plan.needs import Need, resolve
from nostos.core.plan.prepared import compare_voyage
from nostos.core.plan.row_writes import RowWrite, WriteAction, row_writes
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
