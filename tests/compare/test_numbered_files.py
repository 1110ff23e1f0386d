"""Files that lie under the number of a row: they go with it, under that number, or neither of them goes."""

from __future__ import annotations

import unittest

from nostos.core.errors import NostosError
from nostos.core.learning.findings import add_answers
from nostos.core.plan.prepared import compare_voyage, prepare
from tests.apply.test_live_differs import SmallTest
from tests.small import ENGINES, Small

SCHEMA = ("CREATE TABLE tours (id {key}, slug VARCHAR(40) NOT NULL, plan VARCHAR(40))",
          *(f"INSERT INTO tours (slug, plan) VALUES ('tour-{chr(96 + n)}', 'way-{chr(96 + n)}.pdf')"
            for n in range(1, 10)),
          "INSERT INTO tours (id, slug, plan) VALUES (1500, 'tour-z', 'way-z.pdf')",
          "CREATE TABLE bookings (id {key}, mail VARCHAR(60) NOT NULL)",
          "INSERT INTO bookings (mail) VALUES ('a@x.example')")
FILES = (*(f"uploads/tour/{n}/front.jpg" for n in range(1, 10)), *(f"img/{n}.jpg" for n in range(1, 10)),
         *(f"plans/000/00{n}/way-{chr(96 + n)}.pdf" for n in range(1, 4)), "plans/001/500/way-z.pdf",
         "tickets/booking_1.pdf",
         *(f"guides/tour/{n}/x.pdf" for n in (2017, 2018, 2019)),
         *(f"logs/{n:02}/x.jpg" for n in range(1, 10)), *(f"2026/{n}/y.jpg" for n in range(1, 10)))
SITE = 'editors = ["tours"]\nvisitors = ["bookings"]\n'
OWN = ("uploads/tour/2011/front.jpg", "img/2011.jpg", "plans/002/011/way-new.pdf")
# Months, what stands where years do, and where nothing stands yet.
OTHERS = ("2026/10/y.jpg", "logs/10/x.jpg", "guides/tour/2011/x.pdf", "leaflets/2011/way-new.pdf")


class UnderTheirNumbers(SmallTest):
    def grown(self, engine: str) -> Small:
        """Staging has a new tour with its files, a test booking with a ticket, and what lies under other numbers."""
        s = self.small(engine, SCHEMA, SITE, FILES)
        s.sql("staging", "INSERT INTO tours (id, slug, plan) VALUES (1501, 'not yet', '')")
        s.sql("staging", "INSERT INTO tours (id, slug, plan) VALUES (2011, 'new', 'way-new.pdf')")
        s.sql("staging", "INSERT INTO bookings (mail) VALUES ('test@x.example')")
        for path in (*OWN, *OTHERS, "tickets/booking_2.pdf"):
            s.file("staging", path)
        return s

    def test_they_go_with_their_row_which_keeps_its_number(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine):
                s = self.grown(engine)
                s.sql("live", "INSERT INTO bookings (mail) VALUES ('guest@x.example')")
                with s.crew() as crew:
                    items = compare_voyage(crew)[0].items
                self.assertEqual({*OWN}, {f.path for f in items["tours/2011"].files})
                with s.crew() as crew:
                    self.assertEqual({"tours/1501", "tours/2011", *(f"file/{path}" for path in OTHERS)},
                                     {i.id for i in prepare(crew).plan.selection.items})
                s.merge("tours/2011", "file/*")
                self.assertEqual([(2011, "new")], s.sql("live", "SELECT id, slug FROM tours WHERE id > 1500"))
                self.assertTrue(all((s.live_folder / path).read_text() == f"staging {path}" for path in OWN))
                self.assertFalse((s.live_folder / "tickets/booking_2.pdf").exists())
                s.sql("live", "INSERT INTO tours (slug) VALUES ('next')")  # what gives out numbers has counted on
                self.assertEqual([(2012,)], s.sql("live", "SELECT id FROM tours WHERE slug = 'next'"))

    def test_what_would_be_another_things_stays_with_its_row(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine):
                s = self.grown(engine)
                s.sql("live", "INSERT INTO tours (id, slug) VALUES (1501, 'lives-own')")
                with s.crew() as crew:
                    ready = prepare(crew)
                self.assertEqual({*(f"file/{path}" for path in OTHERS), "tours/1501~staging"},
                                 {i.id for i in ready.plan.selection.items})
                self.assertIn("lies under its number, which is another thing's on live",
                              ready.comparison.items["tours/2011"].reason)

    def test_a_number_that_live_gives_out_in_between(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine):
                s = self.grown(engine)

                def taken(s: Small = s) -> None:
                    s.sql("live", "INSERT INTO tours (id, slug) VALUES (2011, 'lives-own')")
                    s.file("live", "uploads/tour/2011/other.jpg")

                with self.assertRaises(NostosError):
                    s.merge("tours/2011", between=taken)
                self.assertEqual([(2011, "lives-own")], s.sql("live", "SELECT id, slug FROM tours WHERE id > 1500"))
                self.assertEqual(["other.jpg"], [p.name for p in (s.live_folder / "uploads/tour/2011").iterdir()])

    def test_a_path_that_the_row_itself_holds_has_nothing_to_do_with_its_number(self) -> None:
        s = self.small("sqlite", (
            "CREATE TABLE tours (id {key}, slug VARCHAR(40), picture VARCHAR(40))",
            *(f"INSERT INTO tours (slug, picture) VALUES ('t{n}', 'tour/{n}/front.jpg')" for n in range(1, 4))), SITE,
            [f"uploads/tour/{n}/front.jpg" for n in range(1, 4)])
        for slug in ("new", "twin"):  # of two that name it none is its owner
            s.sql("staging", f"INSERT INTO tours (slug, picture) VALUES ('{slug}', 'tour/4/front.jpg')")
        s.file("staging", "uploads/tour/4/front.jpg")
        s.sql("live", "INSERT INTO tours (slug) VALUES ('lives-own')")
        self.assertEqual({"tours.picture/~tour%2F#%2F"}, {str(q.place) for q in s.compare().questions})
        with s.crew() as crew:
            add_answers(crew.answers, {"tours.picture/~tour%2F#%2F": "number"}, s.compare().rows.target_tables)
        s.merge("tours/*")
        self.assertEqual([(5, "new"), (6, "twin")], s.sql("live", "SELECT id, slug FROM tours WHERE id > 4"))
        self.assertTrue((s.live_folder / "uploads/tour/4/front.jpg").exists())

    def test_a_file_that_comes_after_its_row_got_another_number(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine):
                s = self.small(engine, SCHEMA, SITE, FILES)
                s.sql("staging", "INSERT INTO tours (id, slug) VALUES (1501, 'new')")
                s.sql("live", "INSERT INTO tours (id, slug) VALUES (1501, 'lives-own')")
                s.merge("tours/*")
                s.file("staging", "uploads/tour/1501/front.jpg")
                with s.crew() as crew:
                    self.assertEqual((), prepare(crew).plan.operations)


if __name__ == "__main__":
    unittest.main()
