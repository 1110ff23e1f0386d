"""Things of a system that no profile knows, by the names that people have for them, with what is part of them."""

from __future__ import annotations

import unittest

from nostos.core.compare.gather import _free
from nostos.core.compare.items import Item
from nostos.core.plan.prepared import compare_voyage, prepare
from nostos.core.plan.reading_order import in_reading_order
from nostos.core.plan.selection import Choice
from tests.apply.test_live_differs import SmallTest
from tests.small import ENGINES, Small

SCHEMA = (
    "CREATE TABLE crew (id {key}, mail VARCHAR(60) NOT NULL, password VARCHAR(90) NOT NULL)",
    "INSERT INTO crew (mail, password) VALUES ('a@x.example', 'pbkdf2_sha256$1$ab$0123456789abcdef0123456789abcdef')",
    "CREATE TABLE tour (id {key}, slug VARCHAR(40) NOT NULL, headline VARCHAR(80) NOT NULL, crew_id INTEGER NOT NULL "
    "REFERENCES crew (id))",
    "INSERT INTO tour (slug, headline, crew_id) VALUES ('coast', 'Along the coast', 1), ('ridge', 'Over the ridge', 1)",
    "CREATE TABLE slot (id {key}, sort VARCHAR(20) NOT NULL, tour_id INTEGER NOT NULL REFERENCES tour (id))",
    "INSERT INTO slot (sort, tour_id) VALUES ('main', 1), ('side', 1), ('main', 2), ('side', 2)",
    "CREATE TABLE piece (id {key}, place INTEGER NOT NULL, slot_id INTEGER NOT NULL REFERENCES slot (id), "
    "guest_id INTEGER REFERENCES tour (id))",
    "INSERT INTO piece (place, slot_id) VALUES (60, 1), (70, 1), (60, 2), (60, 3)",
    "CREATE TABLE upload (id {key}, caption VARCHAR(80) NOT NULL, lies_at VARCHAR(90) NOT NULL, "
    "tour_id INTEGER NOT NULL REFERENCES tour (id))",
    "CREATE TABLE visit (id {key}, mail VARCHAR(60) NOT NULL, said VARCHAR(90) NOT NULL, ip VARCHAR(40) NOT NULL)")
WHOLE = (
    "CREATE TABLE tour (id {key}, slug VARCHAR(40) NOT NULL)",
    "INSERT INTO tour (slug) VALUES ('coast'), ('ridge'), ('marsh')",
    "CREATE TABLE leg (id {key}, tour_id INTEGER NOT NULL REFERENCES tour (id), position INTEGER NOT NULL, body TEXT)",
    "INSERT INTO leg (tour_id, position, body) VALUES (1, 0, 'a'), (1, 1, 'b'), (2, 0, 'c'), (2, 1, 'd'), (3, 0, 'e'), "
    "(3, 1, 'f'), (3, 2, 'g')",
    "CREATE TABLE wording (id {key}, tour_id INTEGER NOT NULL REFERENCES tour (id), lang VARCHAR(9) NOT NULL, "
    "headline VARCHAR(80) NOT NULL, UNIQUE (tour_id, lang))",
    "INSERT INTO wording (tour_id, lang, headline) VALUES (1, 'de', 'Küste'), (1, 'en', 'Coast'), (2, 'de', 'Grat'), "
    "(2, 'en', 'Ridge'), (3, 'en', 'Marsh')",
    "CREATE TABLE beside (id {key}, tour_id INTEGER NOT NULL REFERENCES tour (id), other_id INTEGER NOT NULL "
    "REFERENCES tour (id), place INTEGER NOT NULL)",
    "INSERT INTO beside (tour_id, other_id, place) VALUES (1, 3, 0), (1, 2, 1), (2, 3, 0), (2, 1, 1), (3, 1, 0), "
    "(3, 2, 1)",
    "CREATE TABLE twin (id {key}, one_id INTEGER REFERENCES tour (id), two_id INTEGER REFERENCES tour (id))",
    "CREATE TABLE guide (id {key}, tour_id INTEGER NOT NULL REFERENCES tour (id), place INTEGER NOT NULL, "
    "badge VARCHAR(40) NOT NULL, UNIQUE (badge))",
    "INSERT INTO guide (tour_id, place, badge) VALUES (1, 0, 'ana'), (1, 1, 'bo'), (2, 0, 'cy'), (2, 1, 'di'), "
    "(3, 0, 'ed'), (3, 1, 'fa')")
SITE = 'editors = ["tour", "slot", "piece", "upload"]\nvisitors = ["visit"]\n'
MILL = "2026/11/mill.png"
SIZES = ("mill-120x80.png", "mill.png.64x64_q85.jpg", "mill@2x.png")


class Names(SmallTest):
    def grown(self, engine: str) -> Small:
        """Staging has a new tour with its slots, pieces and a picture."""
        s = self.small(engine, SCHEMA, SITE)
        s.sql("staging", "INSERT INTO tour (slug, headline, crew_id) VALUES ('mill', 'The old mill', 1)")
        s.sql("staging", "INSERT INTO slot (sort, tour_id) VALUES ('main', 3)")
        s.sql("staging", "INSERT INTO piece (place, slot_id) VALUES (60, 5), (70, 5)")
        s.sql("staging", "INSERT INTO piece (place, slot_id) VALUES (80, 1)")
        s.sql("staging", f"INSERT INTO upload (caption, lies_at, tour_id) VALUES ('The wheel', '{MILL}', 3)")
        picture = s.staging_folder / "media" / MILL
        picture.parent.mkdir(parents=True)
        picture.write_bytes(b"PNG")
        for name in SIZES:
            picture.with_name(name).write_bytes(b"small")
        return s

    def test_what_it_is_and_what_it_is_part_of(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine), self.grown(engine).crew() as crew:
                found, needs = compare_voyage(crew)
                items: dict[str, Item] = found.items
                self.assertEqual(
                    {"tour/3": "The old mill", "slot/5": "slot main of The old mill",
                     "piece/5": "piece of The old mill", "piece/6": "piece of The old mill",
                     "piece/7": "piece of Along the coast",
                     "upload/1": "The wheel"},
                    {n: items[n].title for n in needs})
                self.assertEqual(("tour/3", "slot/5"), (items["slot/5"].part_of, items["piece/5"].part_of))
                listed = in_reading_order([items[n] for n in needs], found, {})
                told = [(len(over), i.id) for over, i in listed]
                at = told.index((0, "tour/3"))
                self.assertEqual([(1, "slot/5"), (2, "piece/5"), (2, "piece/6")], told[at + 1:at + 4])

    def test_a_thing_goes_with_what_is_nothing_without_it(self) -> None:
        def going(s: Small, take: tuple[str, ...] = (), leave: tuple[str, ...] = ()) -> set[str]:
            with s.crew() as crew:
                return {c.item.id for c in prepare(crew, Choice(take, leave)).plan.selection.chosen}

        for engine in ENGINES:
            with self.subTest(engine):
                s = self.grown(engine)
                whole = {"tour/3", "slot/5", "piece/5", "piece/6"}
                self.assertEqual(whole, going(s, ("tour/3",)))
                self.assertEqual(whole - {"piece/6"}, going(s, ("tour/3",), ("piece/6",)))
                self.assertEqual({"piece/7"}, going(s, (), ("tour/3", "upload/1")))
                s.sql("staging", "UPDATE piece SET guest_id = 2 WHERE id = 6")
                s.sql("live", "DELETE FROM piece WHERE slot_id = 3")
                s.sql("live", "DELETE FROM slot WHERE tour_id = 2")
                s.sql("live", "DELETE FROM tour WHERE id = 2")  # to which a piece of staging's points
                with s.crew() as crew:
                    found, needs = compare_voyage(crew)
                self.assertEqual(set(), whole & needs.keys())
                self.assertIn("piece/6 (it is part of it)", found.items["slot/5"].reason)
                self.assertEqual(whole - {"piece/6"}, going(s, ("tour/3",), ("piece/6",)) & whole)
                for side in ("live", "staging"):  # what stays keeps what was added to it
                    s.sql(side, f"UPDATE slot SET sort = '{side}' WHERE id = 1")
                with s.crew() as crew:
                    found, needs = compare_voyage(crew)
                self.assertNotIn("piece/7", needs)
                self.assertIn("is part of slot/1, which cannot go home", found.items["piece/7"].reason)

    def test_what_only_its_place_or_its_language_tells_apart_is_part_of_a_thing(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine):
                s = self.small(engine, WHOLE, 'editors = ["tour", "leg", "wording", "beside", "guide", "twin"]\n')
                s.sql("staging", "INSERT INTO tour (slug) VALUES ('mill')")
                s.sql("staging", "INSERT INTO leg (tour_id, position, body) VALUES (4, 0, 'Up.'), (4, 1, 'Down.')")
                s.sql("staging", "INSERT INTO wording (tour_id, lang, headline) VALUES (4, 'de', 'Die Mühle')")
                s.sql("staging", "INSERT INTO beside (tour_id, other_id, place) VALUES (4, 1, 0)")
                s.sql("staging", "INSERT INTO guide (tour_id, place, badge) VALUES (4, 0, 'dora')")
                s.sql("staging", "INSERT INTO tour (slug) VALUES ('other')")
                s.sql("staging", "INSERT INTO twin (one_id, two_id) VALUES (4, 5)")  # whose, nothing says
                with s.crew() as crew:
                    warned = prepare(crew, Choice(("tour/4",))).plan.selection.warnings
                self.assertEqual([f"{one} seems to belong to tour/4, and stays: take it too with --take {one}"
                                  for one in ("guide/7", "twin/1")], list(warned))
                s.sql("staging", "DELETE FROM twin")
                s.sql("staging", "DELETE FROM tour WHERE id = 5")
                with s.crew() as crew:
                    found, _ = compare_voyage(crew)
                self.assertEqual({"tour/4": 5, "guide/7": 1},
                                 {i.id: len(i.rows) for i in found.items.values()})
                for table in ("leg", "wording", "beside", "guide"):
                    s.sql("live", f"DELETE FROM {table} WHERE tour_id = 1")
                s.sql("live", "DELETE FROM beside WHERE other_id = 1")
                s.sql("live", "DELETE FROM tour WHERE id = 1")  # one part cannot go, so nothing of it does
                with s.crew() as crew:
                    found, needs = compare_voyage(crew)
                self.assertNotIn("tour/4", needs)
                self.assertIn("other_id", found.items["tour/4"].reason)

    def test_a_file_goes_with_its_row_and_stays_with_it(self) -> None:
        s = self.grown("sqlite")
        (s.staging_folder / "media/2026/11/stray.png").write_bytes(b"PNG")
        s.sql("live", "INSERT INTO visit (mail, said, ip) VALUES ('v@y.example', 'hello', '192.0.2.7')")
        with s.crew() as crew:
            found, _ = compare_voyage(crew)
        self.assertEqual({f"media/{MILL}", *(f"media/2026/11/{name}" for name in SIZES)},
                         {f.path for f in found.items["upload/1"].files})
        self.assertEqual({"file/media/2026/11/stray.png": "no row names it"},
                         {i.id: i.title for i in found.items.values() if i.kind == "file"})
        s.merge("tour/3")
        self.assertFalse((s.live_folder / "media").exists())
        s.merge("upload/1")
        self.assertEqual(b"PNG", (s.live_folder / "media" / MILL).read_bytes())
        s.sql("staging", "DELETE FROM upload")
        (s.staging_folder / "media" / MILL).unlink()
        s.sql("live", "UPDATE upload SET caption = 'The wheel, in May'")
        s.merge("*")  # live has changed it since: it stays, and so does its picture
        self.assertTrue((s.live_folder / "media" / MILL).exists())

    def test_a_file_that_is_called_by_its_digest_comes_along(self) -> None:
        s = self.small("sqlite", ("CREATE TABLE page (id {key}, slug VARCHAR(40), stored VARCHAR(64))",
                                  "CREATE TABLE leaflet (id {key}, slug VARCHAR(40), stored VARCHAR(64))"),
                       'editors = ["*"]\n')
        digest = "5f3a" * 10
        s.file("staging", f"store/5f/3a/{digest}")
        for table in ("page", "leaflet"):  # one content, which two things have
            s.sql("staging", f"INSERT INTO {table} (slug, stored) VALUES ('plan', '{digest}')")
        s.merge("page/1")
        self.assertTrue((s.live_folder / f"store/5f/3a/{digest}").exists())
        self.assertEqual({"leaflet/1"}, {*s.compare().items})

    def test_a_folder_and_a_name_in_two_columns(self) -> None:
        s = self.small("sqlite", (
            "CREATE TABLE document (id {key}, title VARCHAR(40), folder VARCHAR(40), name VARCHAR(40))",
            "INSERT INTO document (title, folder, name) VALUES ('Rules', '2025/04', 'rules.pdf')"),
            'editors = ["document"]\n')
        for folder, name in (("2026/05", "plan.pdf"), ("2026/06", "plan.pdf")):
            s.sql("staging", "INSERT INTO document (title, folder, name) VALUES "
                             f"('Plan of {folder}', '{folder}', '{name}')")
            (s.staging_folder / "files" / folder).mkdir(parents=True)
            (s.staging_folder / "files" / folder / name).write_text(folder)
        (s.live_folder / "files/2025/04").mkdir(parents=True)
        (s.live_folder / "files/2025/04/rules.pdf").write_text("rules")
        self.assertEqual({i: [f.path for f in item.files] for i, item in s.compare().items.items()}, {
            "document/1": ["files/2025/04/rules.pdf"], "document/2": ["files/2026/05/plan.pdf"],
            "document/3": ["files/2026/06/plan.pdf"]})
        s.merge("document/3")
        self.assertEqual((s.live_folder / "files/2026/06/plan.pdf").read_text(), "2026/06")
        self.assertFalse((s.live_folder / "files/2026/05").exists())

    def test_a_name_that_many_rows_have_is_nobodys(self) -> None:
        """Two tours of one template: the template is a file by itself."""
        s = self.grown("sqlite")
        for number in (4, 5):
            s.sql("staging", "INSERT INTO upload (caption, lies_at, tour_id) VALUES "
                             f"('Plan {number}', 'plans/common.svg', 3)")
        plan = s.staging_folder / "media" / "plans" / "common.svg"
        plan.parent.mkdir()
        plan.write_text("<svg/>")
        with s.crew() as crew:
            found, _ = compare_voyage(crew)
        self.assertIn("file/media/plans/common.svg", found.items)


class OneName(unittest.TestCase):
    def test_many_things_of_one_name_cost_a_look_or_two_each(self) -> None:
        looks = 0

        class Given(set[str]):
            def __contains__(self, name: object) -> bool:
                nonlocal looks
                looks += 1
                return super().__contains__(name)

        given, counts = Given({"order/paid"}), dict[str, int]()
        for _ in range(2000):
            given.add(_free("order/paid~live", given, counts))
        self.assertEqual(len(given), 2001)
        self.assertIn("order/paid~live2000", given)
        self.assertLess(looks, 3 * 2000)
