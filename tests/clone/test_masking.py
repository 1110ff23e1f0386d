"""A masked copy: no original is left in it, what belonged together still does, and nothing made up ever goes home."""

import re
import shutil
import sqlite3
import tempfile
import unittest
from pathlib import Path

from hypothesis import HealthCheck, given, settings

from nostos.core.anchor.names import Side
from nostos.core.anchor.open_voyage import opened
from nostos.core.apply.merge import merge
from nostos.core.clone.afresh import afresh
from nostos.core.clone.clone import CloneResult, clone
from nostos.core.clone.masking import Mask, Recipe, recognised
from nostos.core.clone.options import CloneOptions
from nostos.core.database.schema import Column, Table
from nostos.core.plan.prepared import prepare
from nostos.core.plan.selection import Choice
from nostos.core.profiles.model import Profile
from nostos.core.takeback.undo import prepare_undo, to_take_back
from nostos.core.voyages.home import Home
from nostos.demo.story import Story
from tests.apply.test_laws import EXAMPLES, PHASES, Step, steps, take
from tests.profiles.test_plain_database import library
from tests.support import STAGING_URL, Harbour, SiteTest, contents, rows, state, template


class MaskedHarbour(Harbour):
    def __init__(self, folder: Path) -> None:
        self.folder, self.home = folder, Home(folder / "home")
        shutil.copytree(template(), folder / "live")
        self.live_folder, self.staging_folder = folder / "live", folder / "staging"
        self.cloned: CloneResult = clone(self.home, self.live_folder, "trip", self.staging_folder, STAGING_URL,
                                         CloneOptions(mask=True))


def everything(folder: Path) -> bytes:
    """All bytes of a site's files, the database's free pages among them."""
    return b"\n".join(p.read_bytes() for p in sorted(folder.rglob("*")) if p.is_file())


class Masked(SiteTest):
    def setUp(self) -> None:
        super().setUp()
        self.h = MaskedHarbour(self.folder)

    def originals(self) -> set[str]:
        """What visitors and members are called, and not administrators."""
        def values(sql: str) -> set[str]:
            return {v for row in rows(self.h.live.database, sql) for v in row}

        return (values("SELECT name, email FROM comments") | values(
            "SELECT name, email FROM members WHERE role='member'") | values(
            "SELECT value FROM content_fields WHERE name IN ('name', 'email')")) - values(
            "SELECT name, email FROM members WHERE role<>'member'")

    def test_no_original_is_left_and_nothing_counts_as_changed(self) -> None:
        h = self.h
        self.assertEqual(h.standings(), {})
        self.assertGreater(len(self.originals()), 5)
        copy = everything(h.staging_folder)
        for original in self.originals():
            self.assertNotIn(original.encode(), copy)
        anchor = h.home.folder("trip") / "anchor.db"
        self.assertEqual(anchor.stat().st_mode & 0o077, 0)
        self.assertFalse(anchor.is_relative_to(h.staging_folder))
        # administrators stay, and what belonged together still does
        kept = "SELECT * FROM members WHERE role<>'member' ORDER BY id"
        self.assertEqual(rows(h.staging.database, kept), rows(h.live.database, kept))
        same = ("SELECT c.id, f.id FROM comments c JOIN content_fields f ON f.name='email' AND f.value=c.email "
                "ORDER BY 1, 2")
        self.assertEqual(rows(h.staging.database, same), rows(h.live.database, same))
        self.assertEqual(rows(h.staging.database, "SELECT * FROM sessions"), [])
        logins = "SELECT login FROM members WHERE role='member'"
        self.assertEqual(set(rows(h.staging.database, logins)) & set(rows(h.live.database, logins)), set())
        assert h.cloned.masked is not None
        self.assertEqual(set(h.cloned.masked), {"members.login", "members.name", "members.email", "comments.name",
                                                "comments.email", "content.title", "content_fields.value"})

    def test_search_indexes_are_left_empty(self) -> None:
        database = self.h.live.database
        rows(database, "CREATE VIRTUAL TABLE people USING fts5(name)")
        rows(database, "INSERT INTO people SELECT name FROM comments")
        clone(self.h.home, self.h.live_folder, "second", self.folder / "second", "http://127.0.0.1:8998",
              CloneOptions(mask=True))
        copy = everything(self.folder / "second")
        for original in self.originals():
            self.assertNotIn(original.encode(), copy)
        self.assertEqual(rows(self.folder / "second/data/site.db", "SELECT count(*) FROM people"), [(0,)])

    def test_nothing_made_up_goes_home(self) -> None:
        h = self.h
        story = Story(self.folder)
        story.work_on_staging()
        story.life_on_live()
        staging = h.staging
        with staging.database_open() as db:  # someone works on masked rows
            db.execute("UPDATE comments SET status='hidden', name='Changed Name', email='x@masked.example' WHERE id=1")
            db.execute("UPDATE members SET role='editor' WHERE role='member'")
            db.execute("UPDATE content SET status='sent' WHERE kind='order'")
        before = contents(h.live.database)
        with h.crew() as crew:
            merge(h.home, crew, prepare(crew, Choice(("*",), leave=("note/a-still-night", "order/kr-test-7f"))))
        after = contents(h.live.database)
        self.assertNotIn("masked.example", repr(after))
        self.assertNotIn("Changed Name", repr(after))
        first = [[r[:6] for r in found["comments"] if r[0] == 1] for found in (before, after)]
        self.assertEqual(first[0], first[1])
        self.assertEqual(rows(h.live.database, "SELECT status FROM comments WHERE id=1"), [("hidden",)])
        names = "SELECT id, login, name, email FROM members ORDER BY id"
        self.assertEqual(len(rows(h.live.database, names)), len(before["members"]))
        self.assertTrue({r[:4] for r in before["members"]} == set(rows(h.live.database, names)))
        with h.crew() as crew:
            merge(h.home, crew, prepare_undo(h.home, crew, to_take_back(h.home, "trip", None)))
        self.assertEqual({r[:4] for r in before["members"]}, set(rows(h.live.database, names)))

    def test_what_a_refresh_brings_is_masked_too(self) -> None:
        h = self.h
        Story(self.folder).life_on_live()
        with h.live.database_open() as db:
            db.execute("UPDATE members SET email='new.address@visitor.example' WHERE role='member'")
        before = state(h.live_folder)
        with h.crew() as crew:
            merge(h.home, crew, prepare(crew, Choice(everyone=True), toward=Side.STAGING))
        self.assertTrue(before == state(h.live_folder))
        self.assertEqual(h.standings(), {})
        copy = everything(h.staging_folder)
        for original in self.originals():
            self.assertNotIn(original.encode(), copy, original)
        self.assertEqual(len(rows(h.staging.database, "SELECT 1 FROM content WHERE kind='order'")),
                         len(rows(h.live.database, "SELECT 1 FROM content WHERE kind='order'")))
        afresh(h.home, h.home.read("trip"))
        self.assertNotIn(b"new.address@visitor.example", everything(h.staging_folder))

    def test_personal_values_are_known_whatever_their_column_is_called(self) -> None:
        (self.folder / "plain").mkdir()
        db = self.folder / "plain/made.db"
        db.touch()
        rows(db, "CREATE TABLE hints (id INTEGER PRIMARY KEY, reply TEXT, seen TEXT, at TEXT)")
        for n in range(8):
            rows(db, "INSERT INTO hints (reply, seen, at) VALUES (?, ?, ?)", f"v{n}@kestrel-ridge.example",
                 f"192.0.2.{n}", f"12:30:4{n}")
        (self.folder / "plain/nostos.toml").write_text('[site]\nname = "made"\nurl = "http://made.example"\n'
                                                       'files = "none"\ndatabase = "sqlite:///made.db"\n')
        clone(Home(self.folder / "other"), self.folder / "plain", "trip", self.folder / "copy", STAGING_URL,
              CloneOptions(mask=True))
        found = rows(self.folder / "copy/made.db", "SELECT reply, seen, at FROM hints")
        self.assertFalse([r for r in found if "kestrel" in r[0] or r[1].startswith("192")])
        self.assertEqual([r[2] for r in found], [f"12:30:4{n}" for n in range(8)])

    def test_columns_are_recognised_without_a_profile(self) -> None:
        site = library(self.folder / "books")
        connection = sqlite3.connect(next(site.rglob("*.db")) if site.is_dir() else site.parent / "store/books.db")
        with connection:
            connection.executescript(
                "CREATE TABLE guests (id INTEGER PRIMARY KEY, first_name TEXT, name TEXT, e_mail TEXT UNIQUE, "
                "phone_number TEXT, ip INTEGER, notes TEXT, zip TEXT, title TEXT);"
                "INSERT INTO guests VALUES (1, 'Marguerite', 'Marguerite Dupond', 'md@visitor.example', '+44 20 1234', "
                "3232235777, 'leave it with Jo', 'AB1 2CD', 'Dr');"
                "CREATE TABLE shelves_too (id INTEGER PRIMARY KEY, name TEXT, code TEXT);"
                "INSERT INTO shelves_too VALUES (1, 'North', 'N')")
        connection.close()
        home = Home(self.folder / "other-home")
        done = clone(home, site, "quiet", self.folder / "quiet", "http://127.0.0.1:8999", CloneOptions(mask=True))
        copy = everything(self.folder / "quiet")
        for original in (b"Marguerite", b"md@visitor.example", b"+44 20 1234", b"leave it with Jo", b"AB1 2CD"):
            self.assertNotIn(original, copy)
        self.assertIn(b"North", copy)
        assert done.masked is not None
        self.assertIn("guests.phone_number", done.masked)
        with opened(home, home.read("quiet")) as crew:
            self.assertEqual(prepare(crew).comparison.items, {})


class Law(unittest.TestCase):
    @settings(max_examples=EXAMPLES // 4, deadline=None, phases=PHASES, suppress_health_check=list(HealthCheck))
    @given(steps, steps)
    def test_nothing_made_up_goes_home_whatever_is_done(self, on_live: list[Step], on_staging: list[Step]) -> None:
        folder = Path(tempfile.mkdtemp(prefix="nostos-mask-"))
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        h = MaskedHarbour(folder)
        for side, site, done in (("s", h.staging, on_staging), ("l", h.live, on_live)):
            for step in done:
                take(site, side, step)
        people = ("SELECT id, login, name, email FROM members", "SELECT id, name, email FROM comments",
                  "SELECT id, slug, title FROM content WHERE kind='order'")
        before = [set(rows(h.live.database, sql)) for sql in people]
        h.merge()
        for sql, then in zip(people, before, strict=True):
            self.assertEqual(then - set(rows(h.live.database, sql)), set())
        self.assertNotIn("masked.example", repr(contents(h.live.database)))
        h.refresh()
        copy = repr(contents(h.staging.database))
        for name in ("ines@visitor.example", "kofi@visitor.example", "Kofi Adair"):
            self.assertNotIn(name, copy)


class Values(unittest.TestCase):
    def test_they_keep_their_shape(self) -> None:
        mask = Mask(Recipe(b"k" * 32, frozenset()), Profile("x", "x"), {})
        for kind, value, shape in (
                ("phone", "+44 (20) 12-34", r"\+\d\d \(\d\d\) \d\d-\d\d"),
                ("code", "AB1 2cd", r"[A-Z]{2}\d \d[a-z]{2}"),
                ("email", "A@b.example", r"[0-9a-f]{12}@masked\.example"), ("ip", "203.0.113.9", r"10(\.\d+){3}"),
                ("ip", "2001:db8::1", r"2001:db8::[0-9a-f]{4}:[0-9a-f]{4}"),
                ("label", "Order of Ann", "Order [0-9a-f]{6}"),
                ("address", "1 High Street", r"\d+ \w+ \w+"), ("drop", "secret", "")):
            made = mask.value(kind, value, None)
            self.assertRegex(str(made), f"^{shape}$")
            self.assertEqual(made, mask.value(kind, f" {value.upper()} " if kind == "email" else value, None))
        self.assertEqual([mask.value("name", v, None) for v in (None, "")], [None, ""])
        self.assertEqual(len(str(mask.value("email", "a@b.example", Column("e", "varchar(9)", True, None)))), 9)
        other = Mask(Recipe(b"j" * 32, frozenset()), Profile("x", "x"), {})
        self.assertNotEqual(mask.value("email", "a@b.example", None), other.value("email", "a@b.example", None))

    def test_recognising(self) -> None:
        names = ("id", "billing_email", "customer_phone", "remote_addr", "postcode", "email_sent", "title", "size",
                 "last_name", "telescope", "shipping_address_1", "city", "ship", "note")
        table = Table("t", tuple(Column(n, "text", True, None) for n in names), ("id",), True)
        self.assertEqual({m.column: m.kind for m in recognised(table, False)}, {
            "billing_email": "email", "customer_phone": "phone", "remote_addr": "ip", "postcode": "code",
            "last_name": "last", "shipping_address_1": "address", "city": "city", "note": "note"})
        self.assertTrue(re.fullmatch(r"member-[0-9a-f]{12}", str(Mask(
            Recipe(b"", frozenset()), Profile("x", "x"), {}).value("login", "ann", None))))
