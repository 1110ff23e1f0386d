"""Numbers that nobody explained: law 11 on generated schemas, and an unknown shop asked about once and then right."""

from __future__ import annotations

import base64
import json
import random
import shutil
import sqlite3
import tempfile
import unittest
from collections.abc import Callable
from functools import partial
from pathlib import Path
from types import SimpleNamespace
from typing import Any
from unittest.mock import patch

from hypothesis import given, settings
from hypothesis import strategies as st

from nostos.core.anchor.open_voyage import answers_of
from nostos.core.learning.findings import add_answers
from nostos.core.plan.unknown import Explainer, _may_hold
from nostos.core.sites.recognise import recognise
from nostos.core.values import located, php
from nostos.demo.story import Story
from tests.learning.test_learning import Made, Maker
from tests.support import Harbour, SiteTest, rows, template

SHOP = """
CREATE TABLE ext_shop_orders (id INTEGER PRIMARY KEY AUTOINCREMENT, number TEXT UNIQUE, customer_email TEXT,
                              total INTEGER, status TEXT);
CREATE TABLE ext_shop_lines (id INTEGER PRIMARY KEY AUTOINCREMENT, ext_order INTEGER, product INTEGER,
                             quantity INTEGER);
CREATE TABLE ext_gallery (id INTEGER PRIMARY KEY AUTOINCREMENT, title TEXT, slug TEXT, cover INTEGER, frames TEXT,
                          options TEXT, markup TEXT);
CREATE TABLE ext_gallery_frame (id INTEGER PRIMARY KEY AUTOINCREMENT, gallery INTEGER, pic INTEGER, wide INTEGER);
"""


Ask = Callable[..., list[tuple[Any, ...]]]  # runs a statement with values on one side's database


class Unread(unittest.TestCase):
    @given(st.lists(st.integers(1, 9_999) | st.text("019ab-/:\"'{}[] \n", max_size=6), max_size=6), st.integers(0, 4),
           st.sets(st.integers(1, 9_999), min_size=1, max_size=3))
    def test_no_text_is_passed_over_that_holds_a_number(self, parts: list[object], way: int, born: set[int]) -> None:
        text = "".join(map(str, (*parts, *(p for p in born if way % 2))))
        value = [text, json.dumps({"a": text, text: [1]}), php.write({"a": text}),
                 base64.b64encode(f"some words before it: {text}".encode()).decode(), f"<a href='/p/{text}'>"][way]
        if any(number in born for _, number in located.numbers(value)):
            self.assertTrue(_may_hold(value, {n: set() for n in born}))

    def test_most_are(self) -> None:
        self.assertFalse(_may_hold("In 1820, on page 12 of 300, some words", {21: set(), 182: set()}))


class LawElevenTest(unittest.TestCase):
    """Law 11 on generated schemas, on any engine."""

    def holds(self, seed: int, made: Made, h: Harbour, live: Ask, staging: Ask) -> None:
        """Both sides give out the same numbers; then everything goes home."""
        chance = random.Random(seed)
        names = list(dict.fromkeys(t for t, _ in (*made.references, *made.numbers)))
        for side, ask in (("live", live), ("staging", staging)):
            for n in range(chance.randint(1, 12)):
                self.born(ask, chance.choice(names), f"{side} {n}", made, chance)
        before, staged = (self.told(ask, names, made) for ask in (live, staging))
        if h.compare().items:
            h.merge("*")
        after = self.told(live, names, made)
        for row, points in after.items():
            self.assertEqual(points, before[row] if row in before else staged[row], (seed, row))
        self.assertLessEqual(before.keys(), after.keys())

    @staticmethod
    def born(ask: Ask, table: str, remark: str, made: Made, chance: random.Random) -> None:
        values: list[object] = []
        for column in made.columns[table]:
            target = made.references.get((table, column))
            key = made.keys[target] if target else ""
            ids = [r[0] for r in ask(f'SELECT "{key}" FROM "{target}" ORDER BY "{key}" DESC LIMIT 3')] if target else []
            values.append(remark if column == "remark" else chance.choice(ids) if ids else chance.randint(1, 60))
        names = ", ".join(f'"{c}"' for c in made.columns[table])
        ask(f'INSERT INTO "{table}" ({names}) VALUES ({", ".join("?" * len(values))})', *values)

    @staticmethod
    def told(ask: Ask, names: list[str], made: Made) -> dict[tuple[str, str], list[str]]:
        """What each row born since points at, by remarks (an old row by its number)."""
        found: dict[tuple[str, str], list[str]] = {}
        for table in names:
            for row, remark in ask(f'SELECT "{made.keys[table]}", remark FROM "{table}" WHERE remark <> \'x\''):
                points = found[table, remark] = []
                for (own, column), target in made.references.items():
                    if own == table:
                        (value,) = ask(f'SELECT "{column}" FROM "{table}" WHERE "{made.keys[table]}"=?', row)[0]
                        said = ask(f'SELECT remark FROM "{target}" WHERE "{made.keys[target]}"=?', value)
                        points.append(said[0][0] if said and said[0][0] != "x" else f"{column} {value}")
        return found


class LawEleven(LawElevenTest):
    @settings(max_examples=25, deadline=None)
    @given(st.integers(0, 10_000))
    def test_every_reference_on_live_is_what_it_was_in_staging(self, seed: int) -> None:
        folder = Path(tempfile.mkdtemp(prefix="nostos-test-"))
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        made, site = Maker(seed).make(), folder / "site"
        site.mkdir()
        (site / "nostos.toml").write_text('[site]\nname = "made"\nurl = "http://made.example"\nfiles = "none"\n'
                                          'database = "sqlite:///made.db"\n')
        with sqlite3.connect(site / "made.db") as db:
            for sql in made.sql:
                db.execute(sql)
        h = Harbour(folder, site)
        self.holds(seed, made, h, *(partial(rows, side / "made.db") for side in (h.live_folder, h.staging_folder)))


class ShopTest(SiteTest):
    """The demo site with a shop and a gallery that no profile names; both sides have gained something."""

    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(template(), self.folder / "site")
        self.path = self.folder / "site/data/site.db"
        with sqlite3.connect(self.path) as db:
            db.executescript(SHOP)
            pics, pages = ([n for (n,) in db.execute("SELECT id FROM content WHERE kind=?", (kind,))]
                           for kind in ("picture", "page"))
            for n in range(1, 13):
                db.execute("INSERT INTO ext_shop_orders (number, customer_email, total, status) VALUES (?, ?, ?, ?)",
                           (f"S-{1000 + n}", f"v{n}@visitor.example", 900 * n, "paid"))
                db.execute("INSERT INTO ext_shop_lines (ext_order, product, quantity) VALUES (?, ?, ?)",
                           (n, n % 3 + 1, n % 4 + 1))
            for n in range(1, 5):
                db.execute("INSERT INTO ext_gallery (title, slug, cover, frames, options, markup) VALUES "
                           "(?, ?, ?, ?, ?, ?)", (
                               f"G{n}", f"g{n}", pics[n], f"{pics[0]},{pics[1]}",
                               f'{{"page": {pages[n]}, "columns": {n}}}', f'[film ref="{pages[n]}"]'))
                db.execute("INSERT INTO ext_gallery_frame (gallery, pic, wide) VALUES (?, ?, ?)", (n, pics[n], n))
        self.h = Harbour(self.folder, self.folder / "site")
        site = self.h.staging
        self.first = pics[0]
        self.pic, self.page = site.add_picture("new-pic", "New", "<svg/>"), site.add("page", "new-page", "New page")
        for n in range(6):
            self.h.live.add("note", f"n{n}", "Live's own")  # live gives the same numbers to other things
        rows(site.database, "INSERT INTO ext_gallery (title, slug, cover, frames, options, markup) VALUES "
             "('G9', 'g9', ?, ?, ?, ?)", self.pic, f"{self.first},{self.pic}",
             f'{{"page": {self.page}, "columns": 5}}', f'[film ref="{self.page}"]')
        rows(site.database, "INSERT INTO ext_gallery_frame (gallery, pic, wide) VALUES (5, ?, 2)", self.pic)
        for database, who in ((site.database, "tester"), (self.path, "customer")):
            rows(database, "INSERT INTO ext_shop_orders (number, customer_email, total, status) VALUES "
                 "('S-1013', ?, 1, 'paid')", f"{who}@visitor.example")
            rows(database, "INSERT INTO ext_shop_lines (ext_order, product, quantity) VALUES (13, 1, 1)")


class WithoutItsProfile(SiteTest):
    def test_the_stand_in_loses_nothing_but_names(self) -> None:
        """The story's week on both sides, on a site of which no profile says anything."""
        live = self.folder / "live"
        shutil.copytree(template(), live)
        (live / "bare.toml").write_text('[profile]\nname = "bare"\ntitle = "Bare"\n')
        (live / "nostos.toml").write_text('[site]\nname = "kr"\nurl = "http://127.0.0.1:8431"\nfiles = "."\n'
                                          'database = "sqlite:///data/site.db"\nprofile = "bare.toml"\n')
        h = Harbour(self.folder, live)
        story = Story(self.folder)
        story.work_on_staging()
        story.life_on_live()
        orders = ("SELECT c.id, c.slug, c.title, l.* FROM content c JOIN order_lines l ON l.order_id = c.id "
                  "ORDER BY l.id")
        said = "SELECT * FROM comments"
        before = rows(h.live.database, orders), rows(h.live.database, said)
        asked = [str(q.place) for q in h.compare().questions]
        self.assertEqual(asked, ["settings.value[name=theme.dusk]/banner"])  # one number, in one setting
        with h.crew() as crew:
            add_answers(crew.answers, dict.fromkeys(asked, "content"), crew.live.open(readonly=True).tables())
        h.merge()
        self.assertEqual((rows(h.live.database, orders), rows(h.live.database, said)), before)
        self.assertIsNone(h.live.find("order", "kr-test-7f"))
        page, picture = h.live.find("page", "autumn-programme"), h.live.find("picture", "autumn-sky")
        self.assertNotEqual(page["id"], h.staging.find("page", "autumn-programme")["id"])
        self.assertEqual(page["parent_id"], h.live.find("page", "programme")["id"])
        self.assertIn(f'data-picture="{picture["id"]}"', page["body"])
        self.assertIn(f'data-content="{page["id"]}"', page["body"])
        self.assertEqual(rows(h.live.database, "SELECT value FROM content_fields WHERE content_id=? AND name='picture'",
                              page["id"]), [(str(picture["id"]),)])
        self.assertEqual([(e["label"], e["content"]) for e in h.live.setting("menu.main")["entries"]][1::4],
                         [("Autumn evenings", page["id"]), ("For schools", h.live.find("page", "school-groups")["id"])])
        theme = h.live.setting("theme.dusk")
        self.assertEqual((theme["accent"], theme["footer"]), ("#d98e5b", "Clear skies, warm hands."))
        body = h.live.find("page", "programme")["body"]
        self.assertTrue("midnight" in body and "red lamp" in body)


    def test_rows_called_by_their_names_and_who_was_last(self) -> None:
        """A text that names a row needs it; who edited last pulls nobody in."""
        live = self.folder / "live"
        live.mkdir()
        db = live / "made.db"
        with sqlite3.connect(db) as made:
            made.executescript("""
                CREATE TABLE rooms (id INTEGER PRIMARY KEY AUTOINCREMENT, title TEXT, slug TEXT UNIQUE);
                CREATE TABLE users (id INTEGER PRIMARY KEY AUTOINCREMENT, login TEXT UNIQUE, email TEXT);
                CREATE TABLE tips (id INTEGER PRIMARY KEY AUTOINCREMENT, title TEXT, room_slug TEXT,
                                   edited_by INTEGER REFERENCES users(id));
                """)
            for n in range(1, 6):
                made.execute("INSERT INTO rooms (title, slug) VALUES (?, ?)", (f"R{n}", f"room-{n}"))
                made.execute("INSERT INTO users (login, email) VALUES (?, ?)", (f"u{n}", f"u{n}@ridge.example"))
                made.execute("INSERT INTO tips (title, room_slug, edited_by) VALUES (?, ?, ?)",
                             (f"T{n}", f"room-{n}", n))
        (live / "nostos.toml").write_text('[site]\nname = "made"\nurl = "http://made.example"\nfiles = "none"\n'
                                          'database = "sqlite:///made.db"\n')
        h = Harbour(self.folder, live)
        copy = self.folder / "staging/made.db"
        rows(copy, "INSERT INTO rooms (title, slug) VALUES ('New', 'room-new')")
        rows(copy, "INSERT INTO users (login, email) VALUES ('tester', 't@ridge.example')")
        rows(copy, "INSERT INTO tips (title, room_slug, edited_by) VALUES ('New', 'room-new', 6)")
        h.merge("tips/*")
        self.assertEqual(rows(db, "SELECT room_slug, edited_by FROM tips WHERE title='New'"), [("room-new", None)])
        self.assertEqual(rows(db, "SELECT title FROM rooms WHERE slug='room-new'"), [("New",)])
        self.assertEqual(rows(db, "SELECT count(*) FROM users"), [(5,)])


class UnknownShop(ShopTest):
    def test_nothing_goes_home_before_it_is_known_and_then_all_of_it_is_right(self) -> None:
        h = self.h
        comparison = h.compare()
        places = {str(q.place): set(q.candidates) for q in comparison.questions}
        self.assertEqual(set(places), {"ext_gallery.frames", "ext_gallery.markup/@ref@[film"})
        self.assertTrue(all("content" in tables for tables in places.values()))
        self.assertEqual({n for n, s in h.standings().items() if s == "open" and "shop" not in n},
                         {"ext_gallery/5", "ext_gallery_frame/5"})
        orders = rows(self.path, "SELECT * FROM ext_shop_orders"), rows(self.path, "SELECT * FROM ext_shop_lines")
        h.merge()
        self.assertEqual(rows(self.path, "SELECT count(*) FROM ext_gallery"), [(4,)])
        site = recognise(h.live_folder)
        database = site.open(readonly=True)
        add_answers(answers_of(h.home, site), dict.fromkeys(places, "content"), database.tables())
        database.close()
        self.assertEqual(set(h.homeward()) & {"ext_gallery/5", "ext_gallery_frame/5"},
                         {"ext_gallery/5", "ext_gallery_frame/5"})
        h.merge()
        pic, page = (h.live.find(kind, slug)["id"] for kind, slug in (("picture", "new-pic"), ("page", "new-page")))
        self.assertNotEqual((pic, page), (self.pic, self.page))
        self.assertEqual(rows(self.path, "SELECT cover, frames, options, markup FROM ext_gallery WHERE slug='g9'"), [
            (pic, f"{self.first},{pic}", f'{{"page": {page}, "columns": 5}}', f'[film ref="{page}"]')])
        self.assertEqual(rows(self.path, "SELECT gallery, pic FROM ext_gallery_frame WHERE id=5"), [(5, pic)])
        # The test order stayed where it is, and live's order of that number has gained nothing.
        self.assertEqual(orders, (rows(self.path, "SELECT * FROM ext_shop_orders"),
                                  rows(self.path, "SELECT * FROM ext_shop_lines")))
        self.assertEqual(h.compare().questions, ())

    def test_a_number_that_is_none(self) -> None:
        rows(self.h.staging.database, "UPDATE ext_gallery_frame SET wide=? WHERE id=1", self.pic)
        site = recognise(self.h.live_folder)
        database = site.open(readonly=True)
        places = [str(q.place) for q in self.h.compare().questions]
        self.assertIn("ext_gallery_frame.wide", places)
        add_answers(answers_of(self.h.home, site), {"ext_gallery_frame.wide": "number"}, database.tables())
        with self.assertRaisesRegex(ValueError, "no table nowhere"):
            add_answers(answers_of(self.h.home, site), {"ext_gallery_frame.wide": "nowhere"}, database.tables())
        database.close()
        self.h.merge("ext_gallery_frame/1")
        self.assertEqual(rows(self.path, "SELECT wide FROM ext_gallery_frame WHERE id=1"), [(self.pic,)])

    def test_lists_where_one_number_stood(self) -> None:
        """In a column, at a path inside, in an attribute: no list goes home as it stands."""
        folder = self.folder / "lists"
        shutil.copytree(template(), folder / "site")
        path = folder / "site/data/site.db"
        with sqlite3.connect(path) as db:
            db.execute("CREATE TABLE ext_tips (id INTEGER PRIMARY KEY, title TEXT, slug TEXT, content_id TEXT, "
                       "options TEXT, markup TEXT)")
            pages = [n for (n,) in db.execute("SELECT id FROM content WHERE kind='page'")]
            for page in pages:
                db.execute("INSERT INTO ext_tips (title, slug, content_id, options, markup) VALUES (?, ?, ?, ?, ?)", (
                    f"T{page}", f"t{page}", str(page), f'{{"content_id": "{page}"}}', f'[tip pages="{page}"]'))
        h = Harbour(folder, folder / "site")
        page = h.staging.add("page", "new-page", "New page")
        for n in range(6):
            h.live.add("note", f"n{n}", "Live's own")
        both = f"{pages[0]},{page}"
        rows(h.staging.database, "INSERT INTO ext_tips (title, slug, content_id, options, markup) VALUES "
             "('T', 'tt', ?, ?, ?)", both, f'{{"content_id": "{both}"}}', f'[tip pages="{both}"]')
        self.assertEqual(h.compare().questions, ())  # all are pages, and called so
        h.merge()
        both = f"{pages[0]},{h.live.find('page', 'new-page')['id']}"
        self.assertEqual(rows(path, "SELECT content_id, options, markup FROM ext_tips WHERE slug='tt'"), [
            (both, f'{{"content_id": "{both}"}}', f'[tip pages="{both}"]')])

    def test_what_is_sure_and_yet_left_is_asked(self) -> None:
        """A place that has been read as the reference that it is, and holds such a number yet: it is asked."""
        comparison = self.h.compare()
        question = next(q for q in comparison.questions if str(q.place) == "ext_gallery.markup/@ref@[film")
        found = {question.place: SimpleNamespace(numbers={self.page}, items={"ext_gallery/5"})}
        with self.h.crew() as crew:
            live, staging = crew.live.open(readonly=True), crew.staging.open(readonly=True)
            self.addCleanup(live.close)
            self.addCleanup(staging.close)
            explainer = Explainer(comparison.rows, live, staging)
            with patch.object(explainer, "_alike", return_value="content"):
                self.assertEqual(explainer.explain(found)[1], ())
                (asked,) = explainer.explain(found, {question.place})[1]
        self.assertEqual((asked.place, asked.candidates[0], asked.items),
                         (question.place, "content", ("ext_gallery/5",)))

    def test_tables_that_staging_gained(self) -> None:
        staging = self.h.staging.database
        with sqlite3.connect(staging) as db:
            db.executescript("""
                CREATE TABLE ext_desk_bookings (id INTEGER PRIMARY KEY AUTOINCREMENT, email TEXT, page_id INTEGER);
                CREATE TABLE ext_desk_rooms (id INTEGER PRIMARY KEY AUTOINCREMENT, title TEXT, slug TEXT,
                                             page INTEGER REFERENCES content (id));
                INSERT INTO ext_desk_bookings (email) VALUES ('tester@visitor.example');""")
            db.execute("INSERT INTO ext_desk_rooms (title, slug, page) VALUES ('Lower room', 'lower', ?)", (self.page,))
        comparison = self.h.compare()
        self.assertTrue(comparison.items["ext_desk_bookings/1"].visitors)
        self.assertFalse(comparison.items["ext_desk_rooms/1"].visitors)
        self.h.merge("ext_desk_rooms/1")  # a page goes home with it
        home = self.h.live.find("page", "new-page")["id"]
        self.assertEqual(rows(self.path, "SELECT page FROM ext_desk_rooms"), [(home,)])
        self.assertNotEqual(home, self.page)
