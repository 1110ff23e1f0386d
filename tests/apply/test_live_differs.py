"""What must hold when a merge is carried out, whatever live did before, in between, or by itself; on every engine."""

from __future__ import annotations

import os
import signal
import time
import unittest
from collections.abc import Callable, Sequence
from contextlib import closing, suppress
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path
from tempfile import mkdtemp
from typing import Any
from unittest import mock

from nostos.core.anchor.names import Side
from nostos.core.apply import merge as merging
from nostos.core.apply.files.switch import Switch
from nostos.core.errors import MergeRefused, NostosError, SiteError, TargetMoved
from nostos.core.plan.decisions import Decision
from nostos.core.plan.prepared import prepare
from nostos.core.plan.selection import Choice
from nostos.core.sites.recognise import recognise
from nostos.core.takeback.recover import recover
from nostos.core.takeback.undo import prepare_undo, to_take_back
from nostos.core.voyages import journal
from nostos.show import data
from tests.real import postgres, servers
from tests.small import ENGINES, Small
from tests.support import SiteTest

BOOKINGS = ("CREATE TABLE booking (id {key}, guest VARCHAR(50) NOT NULL, seats INTEGER NOT NULL, "
            "state VARCHAR(20) NOT NULL)",
            "INSERT INTO booking (guest, seats, state) VALUES ('Ada',2,'open'), ('Bo',1,'open'), ('Cy',4,'open')")
PAGES = ("CREATE TABLE page (id {key}, title VARCHAR(50) NOT NULL)", "INSERT INTO page (title) VALUES ('one'), ('two')")


NAMED = ("CREATE TABLE page (id {key}, slug VARCHAR(20) NOT NULL UNIQUE, title VARCHAR(20), body VARCHAR(20), "
         "foot VARCHAR(20), seo VARCHAR(20))",
         "INSERT INTO page (slug, title, body) VALUES ('first', 'one', 'b'), ('second', 'two', 'b')")


def usable(engine: str) -> bool:
    return engine == "sqlite" or not (servers.missing() if engine == "mariadb" else postgres.missing())


class SmallTest(SiteTest):
    def small(self, engine: str, schema: tuple[str, ...], more: str = "", files: Sequence[str] = ()) -> Small:
        if not usable(engine):
            self.skipTest(f"not installed: {engine}")
        return Small(Path(mkdtemp(dir=self.folder)), engine, schema, more, files)

    def killed(self, small: Small, at: Callable[..., None]) -> None:
        """Merge in a process that `at`, in the place of the merge's transaction, has killed."""
        child = os.fork()
        if not child:
            with mock.patch.object(merging._Merge, "_transaction", at):
                small.merge("*")
            os._exit(0)
        os.waitpid(child, 0)


class KeysGivenAgain(SmallTest):
    """The row under an old key is the old row only if something says so."""

    def test_a_visitors_row_under_a_freed_key_is_nobody_elses(self) -> None:
        empty = {"sqlite": "DELETE FROM booking", "mariadb": "TRUNCATE booking",
                 "postgresql": "TRUNCATE booking RESTART IDENTITY"}
        for engine in ENGINES:
            with self.subTest(engine):
                s = self.small(engine, BOOKINGS)
                s.sql("staging", "UPDATE booking SET state='cancelled' WHERE id=1")
                s.sql("live", empty[engine])
                # As many seats, and the same state: nothing but the guest's own words tells it from the old one.
                s.sql("live", "INSERT INTO booking (guest, seats, state) VALUES ('Visitor', 2, 'open')")
                s.merge("*")
                self.assertEqual(s.sql("live", "SELECT * FROM booking"), [(1, "Visitor", 2, "open")])

    def test_the_last_row_gone_and_its_key_given_out_at_once(self) -> None:
        s = self.small("sqlite", BOOKINGS)
        s.sql("staging", "UPDATE booking SET state='cancelled' WHERE id=3")
        s.sql("live", "DELETE FROM booking WHERE id=3")
        s.sql("live", "INSERT INTO booking (guest, seats, state) VALUES ('Visitor', 2, 'open')")
        self.assertEqual(s.standings(), {"booking/3": "clash", "booking/3~live": "kept"})
        s.merge("*")
        self.assertEqual(s.sql("live", "SELECT * FROM booking WHERE id=3"), [(3, "Visitor", 2, "open")])

    def test_what_live_built_on_the_old_row_never_belongs_to_the_new_one(self) -> None:
        s = self.small("sqlite", (*BOOKINGS, "CREATE TABLE payment (id INTEGER PRIMARY KEY, booking_id INTEGER NOT NULL"
                                             " REFERENCES booking(id), amount INTEGER)"))
        s.sql("staging", "DELETE FROM booking WHERE id=3")
        s.sql("staging", "INSERT INTO booking (guest, seats, state) VALUES ('Made here', 1, 'held')")
        s.sql("live", "INSERT INTO payment (booking_id, amount) VALUES (3, 120)")
        s.merge("booking/*")
        self.assertEqual(s.sql("live", "SELECT guest FROM booking JOIN payment ON booking_id = booking.id"), [("Cy",)])
        self.assertIn(("Made here",), s.sql("live", "SELECT guest FROM booking"))

    def test_one_number_for_two_things_where_no_database_gives_them_out(self) -> None:
        """Staging's stays, with what points at it; live's is never written over, whatever is preferred."""
        for engine in ENGINES:
            with self.subTest(engine):
                s = self.small(engine, (
                    "CREATE TABLE member (id INT NOT NULL PRIMARY KEY, uuid VARCHAR(40) NOT NULL, name VARCHAR(40))",
                    "CREATE TABLE post (id {key}, title VARCHAR(20), member_id INT NOT NULL, "
                    "FOREIGN KEY (member_id) REFERENCES member (id))",
                    "INSERT INTO member VALUES (1, 'u1', 'Ann'), (20, 'u20', 'Bob')",
                    "INSERT INTO post (title, member_id) VALUES ('a', 1), ('b', 20)"), 'editors = ["*"]\n')
                s.sql("staging", "INSERT INTO member VALUES (21, 'staging', 'Tester')")
                s.sql("staging", "INSERT INTO post (title, member_id) VALUES ('by the tester', 21)")
                s.sql("live", "INSERT INTO member VALUES (21, 'live', 'Visitor')")
                self.assertEqual({n: state for n, state in s.standings().items() if n.startswith("member")},
                                 {"member/21~live": "kept", "member/21~staging": "clash"})
                s.merge("*")
                self.assertEqual(s.sql("live", "SELECT * FROM member WHERE id = 21"), [(21, "live", "Visitor")])
                self.assertEqual(s.sql("live", "SELECT count(*) FROM post"), [(2,)])

    def test_an_edit_stays_an_edit_where_something_says_so(self) -> None:
        edits = "UPDATE booking SET guest='Ada B.', seats=9 WHERE id=1"  # rows above are as they were
        keeps = "UPDATE booking SET guest='Cy D.', seats=9 WHERE id=3"  # this engine keeps count
        for engine, edit in (("sqlite", edits), ("mariadb", edits), ("postgresql", edits), ("mariadb", keeps),
                             ("postgresql", keeps)):
            with self.subTest(engine, edit=edit):
                s = self.small(engine, BOOKINGS)
                s.sql("staging", edit)
                self.assertEqual(set(s.standings().values()), {"homeward"})
                self.assertEqual(len(s.standings()), 1)


class BetweenTheListAndTheCommit(SmallTest):
    def test_what_a_new_row_points_at_is_there(self) -> None:
        """No key is declared: the reference is known to the merge alone."""
        for engine in ENGINES:
            with self.subTest(engine):
                s = self.small(engine, (
                    "CREATE TABLE category (id {key}, name VARCHAR(20) NOT NULL)",
                    "CREATE TABLE page (id {key}, title VARCHAR(50) NOT NULL, category_id INTEGER NOT NULL)",
                    "CREATE INDEX page_c ON page (category_id)",
                    "INSERT INTO category (name) VALUES ('a'), ('b'), ('c'), ('d')",
                    "INSERT INTO page (title, category_id) VALUES ('one',1), ('two',2), ('three',3), ('four',3), "
                    "('five',2), ('six',1)"), 'editors = ["*"]\n')
                s.sql("staging", "INSERT INTO page (title, category_id) VALUES ('new', 4)")
                with suppress(TargetMoved):
                    s.merge(between=lambda: s.sql("live", "DELETE FROM category WHERE id=4"))  # noqa: B023
                self.assertEqual(s.sql("live", "SELECT count(*) FROM page WHERE category_id = 4"), [(0,)])

    def test_parts_stay_where_what_they_hang_on_does(self) -> None:
        """Removed in staging, built on by live: the thing stays, and so does what staging removed along with it."""
        schema = (*PAGES, "CREATE TABLE tag (id {key}, page_id INTEGER NOT NULL REFERENCES page(id), word VARCHAR(20))",
                  "INSERT INTO tag (page_id, word) VALUES (1, 'dome'), (1, 'sky'), (2, 'sky')",
                  "CREATE TABLE remark (id {key}, page_id INTEGER NOT NULL REFERENCES page(id), body VARCHAR(20))")
        for engine in ENGINES:
            with self.subTest(engine):
                s = self.small(engine, schema, 'editors = ["page", "tag"]\nvisitors = ["remark"]\n')
                for removal in ("DELETE FROM tag WHERE page_id = 1", "DELETE FROM page WHERE id = 1",
                                "DELETE FROM tag WHERE word = 'sky'"):
                    s.sql("staging", removal)
                s.sql("live", "INSERT INTO remark (page_id, body) VALUES (1, 'more?')")
                s.merge()
                self.assertEqual(s.sql("live", "SELECT page_id, word FROM tag ORDER BY id"), [(1, "dome"), (1, "sky")])
                s.sql("live", "DELETE FROM remark")
                with s.crew() as crew:
                    said = prepare(crew, Choice(leave=("page/1",))).plan.selection
                self.assertEqual([i.id for i in said.items], [])
                s.merge()
                self.assertEqual(s.sql("live", "SELECT count(*) FROM tag"), [(0,)])

    def test_what_live_changed_in_the_moment_of_a_merge_is_lives_own(self) -> None:
        """Of a page that both sides had made: what live wrote between the list and the commit is not taken for
        something that both sides know, so that staging's next edit of it is a clash."""
        for engine in ENGINES:
            with self.subTest(engine):
                s = self.small(engine, ("CREATE TABLE page (id {key}, slug VARCHAR(20) NOT NULL UNIQUE, "
                                        "title VARCHAR(20), body VARCHAR(20), foot VARCHAR(20), seo VARCHAR(20))",),
                               'editors = ["page"]\n')
                for side in ("live", "staging"):
                    s.sql(side, "INSERT INTO page (slug, title, body, foot, seo) VALUES ('new', '', 'both', 'f', 's')")
                s.sql("staging", "UPDATE page SET title = 'Named'")
                (name,) = s.standings()
                with s.crew() as crew:
                    ready = prepare(crew, Choice(prefer=(Decision(name, Side.STAGING),)))
                    s.sql("live", "UPDATE page SET body = 'lives'")
                    merging.merge(s.home, crew, ready)
                self.assertEqual([("Named", "lives")], s.sql("live", "SELECT title, body FROM page"))
                self.assertEqual({name: "kept"}, s.standings())
                s.sql("staging", "UPDATE page SET title = 'Named anew'")  # of what the merge wrote, both know
                self.assertEqual({name: "blended"}, s.standings())
                s.sql("staging", "UPDATE page SET body = 'stagings'")
                self.assertEqual({name: "clash"}, s.standings())

    @unittest.skipIf(servers.missing(), servers.missing())
    def test_new_rows_are_written_before_anything_is_locked(self) -> None:
        """A visitor who writes to a row that the merge edits does not wait for its new ones; both survive."""
        s = self.small("mariadb", NAMED, 'editors = ["page"]\n')
        s.sql("staging", "UPDATE page SET title = 'uno' WHERE id = 1")
        s.sql("staging", "INSERT INTO page (slug, title, body) VALUES ('new', 'New', 'n')")
        real, seen = merging._Merge._beforehand, list[int]()

        def visited(work: Any, *args: Any) -> None:
            real(work, *args)
            s.sql("live", "UPDATE page SET body = 'said' WHERE id = 1")
            seen.append(len(work.fresh.lines))

        with mock.patch.object(merging._Merge, "_beforehand", visited):
            s.merge("*")
        self.assertEqual([n > 0 for n in seen], [True])
        self.assertEqual(s.sql("live", "SELECT title, body FROM page WHERE id = 1"), [("uno", "said")])
        self.assertEqual(s.standings(), {"page/1": "kept"})
        with s.crew() as crew:
            merging.merge(s.home, crew, prepare_undo(s.home, crew, to_take_back(s.home, "trip", None)))
        self.assertEqual(s.sql("live", "SELECT title, body FROM page WHERE id = 1"), [("one", "said")])
        self.assertEqual(s.sql("live", "SELECT count(*) FROM page WHERE slug = 'new'"), [(0,)])

    @unittest.skipIf(servers.missing(), servers.missing())
    def test_a_new_row_that_a_trigger_reaches_later_is_known_as_it_is(self) -> None:
        """An edit of a page stamps its notes, new ones too: the anchor and the undo know the stamp."""
        s = self.small("mariadb", (
            "CREATE TABLE page (id {key}, title VARCHAR(20), foot VARCHAR(20), seo VARCHAR(20))",
            "INSERT INTO page (title) VALUES ('one')",
            "CREATE TABLE note (id {key}, page_id INTEGER NOT NULL, body VARCHAR(20), stamp VARCHAR(20))",
            "INSERT INTO note (page_id, body) VALUES (1, 'old')",
            "CREATE TRIGGER stamped AFTER UPDATE ON page FOR EACH ROW UPDATE note SET stamp = NEW.title "
            "WHERE page_id = NEW.id"), 'editors = ["page", "note"]\n')
        s.sql("staging", "UPDATE page SET title = 'uno' WHERE id = 1")
        s.sql("staging", "INSERT INTO note (page_id, body) VALUES (1, 'new')")
        s.merge("*")
        self.assertEqual(s.sql("live", "SELECT body, stamp FROM note ORDER BY id"), [("old", "uno"), ("new", "uno")])
        self.assertEqual(s.standings(), {})
        with s.crew() as crew:
            merging.merge(s.home, crew, prepare_undo(s.home, crew, to_take_back(s.home, "trip", None)))
        self.assertEqual(s.sql("live", "SELECT body FROM note"), [("old",)])

    def test_what_a_table_that_is_not_compared_points_at_is_not_left_without_it(self) -> None:
        """A cache that points at a page, without an index: the engine keeps its check, or the page stays."""
        schema = (*PAGES, "CREATE TABLE shown (id {key}, page_id INTEGER NOT NULL REFERENCES page(id))",
                  "CREATE TABLE tag (id {key}, page_id INTEGER REFERENCES page(id))",
                  "INSERT INTO tag (page_id) VALUES (1)")
        for engine in ENGINES:
            with self.subTest(engine):
                s = self.small(engine, schema, 'editors = ["page", "tag"]\n[tables]\nvolatile = ["shown"]\n')
                s.sql("staging", "DELETE FROM page WHERE id = 2")
                with suppress(NostosError):
                    s.merge("*", between=lambda: s.sql("live", "INSERT INTO shown (page_id) VALUES (2)"))  # noqa: B023
                self.assertEqual(s.sql("live", "SELECT count(*) FROM shown LEFT JOIN page ON page.id = page_id "
                                               "WHERE page.id IS NULL"), [(0,)])

    def test_what_makes_room_for_a_new_row_goes_first(self) -> None:
        """A page gives its slug up, and a new one takes it; a seat goes, and another gets its number."""
        seats = ("CREATE TABLE seat (id {key}, number INTEGER NOT NULL UNIQUE, name VARCHAR(20))",
                 "INSERT INTO seat (number, name) VALUES (1, 'dome'), (2, 'door')")
        for engine in ENGINES:
            with self.subTest(engine):
                s = self.small(engine, seats, 'editors = ["seat"]\n')
                s.sql("staging", "DELETE FROM seat WHERE number = 1")
                s.sql("staging", "INSERT INTO seat (number, name) VALUES (1, 'lens')")
                s.merge("*")
                self.assertEqual(s.sql("live", "SELECT name FROM seat ORDER BY number"), [("lens",), ("door",)])
                s = self.small(engine, NAMED, 'editors = ["page"]\n')
                ((slug,),) = s.sql("staging", "SELECT slug FROM page WHERE id = 1")
                s.sql("staging", "UPDATE page SET slug = 'former' WHERE id = 1")
                s.sql("staging", f"INSERT INTO page (slug, title, body) VALUES ('{slug}', 'New', 'n')")
                s.merge("*")
                self.assertEqual(s.sql("live", f"SELECT title FROM page WHERE slug = '{slug}'"), [("New",)])

    def test_what_live_sets_back_after_a_merge_is_an_edit(self) -> None:
        """A block that is as it was at the clone has moved, if a merge changed it in between."""
        for engine in ENGINES:
            with self.subTest(engine):
                s = self.small(engine, PAGES, 'editors = ["page"]\n')
                s.sql("staging", "UPDATE page SET title='uno' WHERE id=1")
                s.merge("*")
                s.sql("live", "UPDATE page SET title='one' WHERE id=1")
                s.sql("staging", "UPDATE page SET title='eins' WHERE id=1")
                self.assertEqual(s.standings(), {"page/1": "clash"})

    def test_what_was_decided_for_live_stays_decided(self) -> None:
        """Of a page that both sides had made: staging's other word for it does not come back at the next merge."""
        s = self.small("sqlite", ("CREATE TABLE page (id {key}, slug VARCHAR(20) NOT NULL UNIQUE, title VARCHAR(20), "
                                  "body VARCHAR(20), foot VARCHAR(20))",), 'editors = ["page"]\n')
        for side, title in (("live", ""), ("staging", "Named")):
            s.sql(side, f"INSERT INTO page (slug, title, body, foot) VALUES ('new', '{title}', 'both', 'f')")
        with s.crew() as crew:
            merging.merge(s.home, crew, prepare(crew, Choice(prefer=(Decision("page/1", Side.LIVE),))))
        self.assertEqual({"page/1": "kept"}, s.standings())
        s.merge("*")
        self.assertEqual([("",)], s.sql("live", "SELECT title FROM page"))

    def test_a_file_of_stagings_that_changes_while_it_is_copied(self) -> None:
        """What goes home is what was compared: the merge begins again."""
        s = self.small("sqlite", PAGES)
        file = s.staging_folder / "page.html"
        file.write_text("one\n")
        done = s.merge("*", between=lambda: file.write_text("two\n"))
        self.assertEqual((2, "two\n"), (done.tries, (s.live_folder / "page.html").read_text()))
        self.assertEqual({}, s.standings())

    def test_a_row_that_was_born_at_another_time_is_another(self) -> None:
        """Though most of it is alike: a profile says which column never changes in a row's life."""
        s = self.small("sqlite", (
            "CREATE TABLE talk (id {key}, title VARCHAR(20), body VARCHAR(20), room VARCHAR(20), made VARCHAR(20))",
            "INSERT INTO talk (title, body, room, made) VALUES ('A', 'x', 'r', 'May'), ('B', 'y', 'r', 'June'), "
            "('C', 'z', 'r', 'July')"),
            'editors = ["talk"]\n[[kind]]\nname = "talk"\ntable = "talk"\nlabel = "id"\nborn = "made"\n')
        s.sql("staging", "UPDATE talk SET body = 'changed' WHERE id = 2")
        s.sql("live", "UPDATE talk SET made = 'August' WHERE id = 2")  # as it looks when it was given out again
        s.merge("*")
        self.assertEqual([("B", "y", "August")], s.sql("live", "SELECT title, body, made FROM talk WHERE id = 2"))

    def test_two_rows_that_exchange_a_name(self) -> None:
        """Of which the database lets no two be alike: each has to make room for the other."""
        for engine in ENGINES:
            with self.subTest(engine):
                s = self.small(engine, (
                    "CREATE TABLE room (id {key}, door VARCHAR(20) NOT NULL UNIQUE, beds INTEGER NOT NULL)",
                    "INSERT INTO room (door, beds) VALUES ('red', 2), ('blue', 3)"), 'editors = ["room"]\n')
                s.sql("staging", "UPDATE room SET door = 'none' WHERE id = 1")
                s.sql("staging", "UPDATE room SET door = 'red' WHERE id = 2")
                s.sql("staging", "UPDATE room SET door = 'blue' WHERE id = 1")
                s.sql("live", "UPDATE room SET beds = 4 WHERE id = 2")
                s.merge("*")
                self.assertEqual([("blue", 2), ("red", 4)], [(str(d), int(b)) for d, b in s.sql(
                    "live", "SELECT door, beds FROM room ORDER BY id")])

    def test_a_weak_reference_waits_for_nothing(self) -> None:
        """A page stands without what it only mentions: where that does not go along, the page keeps what it had."""
        s = self.small("sqlite", (
            "CREATE TABLE page (id {key}, slug VARCHAR(40), title VARCHAR(40), body VARCHAR(40), seen_with INTEGER)",
            "INSERT INTO page (slug, title, body, seen_with) VALUES ('a', 'One', 'x', NULL), ('b', 'Two', 'y', 1), "
            "('c', 'Three', 'z', 1)"),
            'editors = ["page"]\n[[reference]]\ncolumn = "page.seen_with"\nto = "page"\nweak = true\n')
        s.sql("staging", "INSERT INTO page (slug, title, body) VALUES ('d', 'New', 'n')")
        s.sql("staging", "UPDATE page SET title = 'Two, again', seen_with = 4 WHERE id = 2")
        s.merge("page/2")
        self.assertEqual([("One", None), ("Two, again", 1), ("Three", 1)], s.sql(
            "live", "SELECT title, seen_with FROM page ORDER BY id"))
        # nor, in a refresh, is live's new page staging's of the same number
        s.sql("live", "INSERT INTO page (slug, title, body) VALUES ('e', 'New on live', 'n')")
        s.sql("live", "UPDATE page SET body = 'of live', seen_with = 4 WHERE id = 3")
        with s.crew() as crew:
            merging.merge(s.home, crew, prepare(crew, Choice(("page/3",)), toward=Side.STAGING))
        self.assertEqual([("Three", "of live", 1), ("New", "n", None)], s.sql(
            "staging", "SELECT title, body, seen_with FROM page WHERE id > 2 ORDER BY id"))

    def test_what_points_at_nothing_goes_on_to(self) -> None:
        """What staging made, noted and removed was never live's: its number is not that of what live makes there."""
        said = '[[reference]]\ncolumn = "note.page_id"\nto = "page"\n'
        for engine in ENGINES:
            with self.subTest(engine):
                s = self.small(engine, (*PAGES, "CREATE TABLE note (id {key}, body VARCHAR(50), page_id INTEGER)",
                                        "INSERT INTO note (body, page_id) VALUES ('a', 1), ('b', 1)"), said)
                s.sql("staging", "INSERT INTO page (title) VALUES ('three'), ('four')")
                s.sql("staging", "INSERT INTO note (body, page_id) VALUES ('three', 3), ('four', 4), ('none', 77)")
                s.sql("staging", "DELETE FROM page WHERE id = 3")
                s.sql("live", "INSERT INTO page (title) VALUES ('live')")
                s.merge("*")
                pointed = dict(s.sql("live", "SELECT body, title FROM note LEFT JOIN page ON page.id = page_id"))
                self.assertEqual(pointed, {"a": "one", "b": "one", "three": None, "four": "four", "none": None})

    def test_a_name_that_only_the_system_keeps_alone(self) -> None:
        """Of a page that both sides gain at one address in the last moment, one alone is there."""
        for engine in ENGINES:
            with self.subTest(engine):
                s = self.small(engine, (
                    "CREATE TABLE page (id {key}, slug VARCHAR(50) NOT NULL, title VARCHAR(50) NOT NULL)",
                    "CREATE INDEX page_slug ON page (slug)",
                    "INSERT INTO page (slug, title) VALUES ('one', 'One'), ('two', 'Two')"),
                    'editors = ["*"]\n[unique]\ncolumns = ["page.slug"]\n')
                s.sql("staging", "INSERT INTO page (slug, title) VALUES ('news', 'Staging news')")
                with suppress(TargetMoved):
                    s.merge(between=lambda: s.sql(  # noqa: B023
                        "live", "INSERT INTO page (slug, title) VALUES ('news', 'Live news')"))
                self.assertEqual(s.sql("live", "SELECT title FROM page WHERE slug='news'"), [("Live news",)])

    def test_conditions_are_printed_and_kept(self) -> None:
        s = self.small("sqlite", BOOKINGS)
        s.sql("staging", "UPDATE booking SET state='held' WHERE id=2")
        with s.crew() as crew:
            said = data.plan(prepare(crew, Choice(("*",), everyone=True)))["conditions"]
        self.assertEqual(said, [{"condition": "RowAs", "item": "booking/2", "table": "booking", "key": [2],
                                 "columns": ["state"]}])
        done = s.merge("*")
        plan = next(journal.read(s.home.folder("trip") / "merges" / done.id))
        self.assertEqual(plan["conditions"], said)

    @unittest.skipIf(servers.missing(), servers.missing())
    def test_a_column_or_table_of_lives_own_is_not_dropped(self) -> None:
        for add, look in (("ALTER TABLE page ADD COLUMN badge VARCHAR(20) NOT NULL DEFAULT 'none'",
                           "SHOW COLUMNS FROM page LIKE 'badge'"),
                          ("CREATE TABLE badge (id INT AUTO_INCREMENT PRIMARY KEY, name VARCHAR(20))",
                           "SHOW TABLES LIKE 'badge'")):
            s = self.small("mariadb", PAGES)
            s.sql("staging", add)
            with self.assertRaises(TargetMoved):
                s.merge("*", between=lambda: s.sql("live", add))  # noqa: B023
            self.assertTrue(s.sql("live", look))


@unittest.skipIf(servers.missing(), servers.missing())
class TakenBack(SmallTest):
    """Law 18: taking back never changes what live wrote after the step."""

    def test_a_widened_column_is_not_narrowed_over_what_came_since(self) -> None:
        for old, new, first, later in (("VARCHAR(10)", "VARCHAR(100)", "'Ada'", "a much longer name"),
                                       ("SMALLINT", "INT", "7", 100000),
                                       ("DECIMAL(6,1)", "DECIMAL(10,4)", "7.5", "1.2345")):
            with self.subTest(old):
                s = self.small("mariadb", (f"CREATE TABLE booking (id {{key}}, guest {old} NOT NULL, seats INT)",
                                           f"INSERT INTO booking (guest, seats) VALUES ({first}, 2)"))
                s.sql("staging", f"ALTER TABLE booking MODIFY guest {new} NOT NULL")
                s.sql("staging", "UPDATE booking SET seats=3 WHERE id=1")
                self.killed(s, lambda *_: os.kill(os.getpid(), signal.SIGKILL))
                s.sql("live", f"INSERT INTO booking (guest, seats) VALUES ('{later}', 1)")
                (done,) = recover(s.home, "trip")
                self.assertEqual(str(s.sql("live", "SELECT guest FROM booking WHERE id=2")[0][0]), str(later))
                self.assertIn("booking.guest", done.stays[0])

    def test_a_step_is_taken_back_where_nothing_came(self) -> None:
        s = self.small("mariadb", ("CREATE TABLE booking (id {key}, guest VARCHAR(10) NOT NULL)",
                                   "INSERT INTO booking (guest) VALUES ('Ada')"))
        s.sql("staging", "ALTER TABLE booking MODIFY guest VARCHAR(100) NOT NULL")
        self.killed(s, lambda *_: os.kill(os.getpid(), signal.SIGKILL))
        self.assertEqual(recover(s.home, "trip")[0].stays, ())
        self.assertIn("varchar(10)", str(s.sql("live", "SHOW CREATE TABLE booking")))

    def test_rows_that_no_transaction_covers(self) -> None:
        s = self.small("mariadb", (*PAGES, "CREATE TABLE note (id {key}, title VARCHAR(50), n INT) ENGINE=MyISAM",
                                   "INSERT INTO note (title, n) VALUES ('one', 1), ('two', 2), ('three', 3)"))
        before = s.sql("live", "SELECT * FROM note ORDER BY id")
        for change in ("UPDATE page SET title='changed'", "UPDATE note SET title='changed' WHERE id=1",
                       "DELETE FROM note WHERE id=2", "INSERT INTO note (title, n) VALUES ('new', 9)"):
            s.sql("staging", change)
        with mock.patch.object(Switch, "go", side_effect=OSError(28, "No space left")), self.assertRaises(MergeRefused):
            s.merge("*")
        self.assertEqual(s.sql("live", "SELECT * FROM note ORDER BY id"), before)
        with mock.patch.object(Switch, "go", lambda _: os.kill(os.getpid(), signal.SIGKILL)):
            self.killed(s, merging._Merge._transaction)
        self.assertNotEqual(s.sql("live", "SELECT * FROM note ORDER BY id"), before)
        s.sql("live", "UPDATE note SET n = 7 WHERE id = 1")  # of a row that the merge wrote to, live's own
        recover(s.home, "trip")
        self.assertEqual(s.sql("live", "SELECT * FROM note ORDER BY id"), [(1, "one", 7), *before[1:]])


class TriggersOfLives(SmallTest):
    def test_what_they_do_through_routines_is_seen(self) -> None:
        orders = ("CREATE TABLE orders (id {key}, email VARCHAR(80) NOT NULL, seen INTEGER NOT NULL DEFAULT 0)",
                  "INSERT INTO orders (email) VALUES ('a@b.example')")
        for engine, routines in (
                ("mariadb", ("CREATE PROCEDURE touch() UPDATE orders SET seen = seen + 1",
                             "CREATE TRIGGER t AFTER UPDATE ON page FOR EACH ROW CALL touch()")),
                ("postgresql", ("CREATE FUNCTION touch() RETURNS void LANGUAGE sql AS 'UPDATE orders SET seen=seen+1'",
                                "CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS "
                                "'BEGIN PERFORM touch(); RETURN NEW; END'",
                                "CREATE TRIGGER t AFTER UPDATE ON page FOR EACH ROW EXECUTE FUNCTION f()"))):
            with self.subTest(engine):
                s = self.small(engine, (*PAGES, *orders, *routines))
                s.sql("live", "INSERT INTO orders (email) VALUES ('new@b.example')")
                s.sql("staging", "UPDATE page SET title='changed' WHERE id=1")
                with self.assertRaises(MergeRefused):
                    s.merge("page/1")
                self.assertEqual(s.sql("live", "SELECT seen FROM orders WHERE id=2"), [(0,)])

    def test_what_they_write_into_a_row_that_is_meant_is_lives_own_doing(self) -> None:
        stamps = {"sqlite": ("CREATE TRIGGER t AFTER UPDATE OF title, note ON page BEGIN UPDATE page SET stamp = "
                             "stamp + 1 WHERE id = NEW.id; END",),
                  "mariadb": ("CREATE TRIGGER t BEFORE UPDATE ON page FOR EACH ROW SET NEW.stamp = OLD.stamp + 1",),
                  "postgresql": ("CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS "
                                 "'BEGIN NEW.stamp = OLD.stamp + 1; RETURN NEW; END'",
                                 "CREATE TRIGGER t BEFORE UPDATE ON page FOR EACH ROW EXECUTE FUNCTION f()")}
        for engine in ENGINES:
            with self.subTest(engine):
                s = self.small(engine, (
                    "CREATE TABLE page (id {key}, title VARCHAR(50), note VARCHAR(50), stamp INTEGER NOT NULL)",
                    "INSERT INTO page (title, note, stamp) VALUES ('one', 'x', 1), ('two', 'y', 1)", *stamps[engine]))
                s.sql("staging", "UPDATE page SET title='staging' WHERE id=1")
                s.sql("live", "UPDATE page SET note='live' WHERE id=1")
                result = s.merge("page/1")
                self.assertEqual(s.sql("live", "SELECT title, note FROM page WHERE id=1"), [("staging", "live")])
                self.assertGreater(result.late, 0)

    def test_what_visitors_write_meanwhile_where_triggers_reach(self) -> None:
        """In a table that a trigger might write to: read again when nobody else does, so that a visitor's own work
        is not taken for the trigger's."""
        s = self.small("sqlite", (
            "CREATE TABLE page (id {key}, title VARCHAR(20))", "INSERT INTO page (title) VALUES ('A')",
            "CREATE TABLE visit (id {key}, seats INTEGER)",
            "CREATE TRIGGER rare AFTER UPDATE ON page WHEN NEW.title = 'never' BEGIN UPDATE visit SET seats = 0; END"),
            'editors = ["page"]\nvisitors = ["visit"]\n')
        s.sql("live", "INSERT INTO visit (seats) VALUES (2)")
        s.sql("staging", "UPDATE page SET title = 'New'")
        caught_up = Switch.catch_up

        def visited(switch: Switch) -> None:
            caught_up(switch)
            s.sql("live", "UPDATE visit SET seats = 3")

        with mock.patch.object(Switch, "catch_up", visited):
            s.merge("*")
        self.assertEqual([("New", 3)], s.sql("live", "SELECT title, seats FROM page, visit"))

    def test_they_write_the_hour_that_the_site_has(self) -> None:
        for engine, schema in (
                ("mariadb", ("CREATE TRIGGER t AFTER UPDATE ON page FOR EACH ROW INSERT INTO log (at) "
                             "VALUES (NOW())",)),
                ("postgresql", ("CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS "
                                "'BEGIN INSERT INTO log (at) VALUES (now()::timestamp); RETURN NEW; END'",
                                "CREATE TRIGGER t AFTER UPDATE ON page FOR EACH ROW EXECUTE FUNCTION f()"))):
            with self.subTest(engine):
                kind = "DATETIME" if engine == "mariadb" else "timestamp"
                s = self.small(engine, (*PAGES, f"CREATE TABLE log (id {{key}}, at {kind} NOT NULL)", *schema))
                name = s.sql("live", f"SELECT {'database' if engine == 'mariadb' else 'current_database'}()")[0][0]
                s.sql("live", "SET GLOBAL time_zone = '+05:00'" if engine == "mariadb"
                      else f'ALTER DATABASE "{name}" SET TimeZone = \'Asia/Karachi\'')
                try:
                    s.sql("staging", "UPDATE page SET title='changed' WHERE id=1")
                    s.sql("live", "UPDATE page SET title='live' WHERE id=2")
                    s.merge("page/1")
                    first, last = (_moment(at) for (at,) in s.sql("live", "SELECT at FROM log ORDER BY id"))
                finally:
                    if engine == "mariadb":
                        s.sql("live", "SET GLOBAL time_zone = 'SYSTEM'")
                self.assertLess(abs(last - first), timedelta(hours=1))


def _moment(said: Any) -> datetime:
    return said if isinstance(said, datetime) else datetime.fromisoformat(str(said))


@unittest.skipIf(postgres.missing(), postgres.missing())
class SlowCommit(SmallTest):
    def test_recovering_waits_for_a_commit_that_is_under_way(self) -> None:
        s = self.small("postgresql", (
            *PAGES, "CREATE FUNCTION slow() RETURNS trigger LANGUAGE plpgsql AS "
                    "'BEGIN PERFORM pg_sleep(5); RETURN NULL; END'",
            "CREATE CONSTRAINT TRIGGER s AFTER UPDATE ON page DEFERRABLE INITIALLY DEFERRED FOR EACH ROW "
            "EXECUTE FUNCTION slow()"))
        for title in ("the first merge", "a later one"):  # the marker's table is made by the first
            s.sql("staging", f"ALTER TABLE page DISABLE TRIGGER ALL; UPDATE page SET title='{title}' WHERE id=1")
            (s.staging_folder / "page.html").write_text(title)
            child = os.fork()
            if not child:
                s.merge("*")
                os._exit(0)
            until = time.time() + 60
            while time.time() < until and not s.server.run(
                    "SELECT 1 FROM pg_stat_activity WHERE query = 'COMMIT' AND state = 'active'"):
                time.sleep(0.02)
            os.kill(child, signal.SIGKILL)
            os.waitpid(child, 0)
            self.assertEqual([r.ended for r in recover(s.home, "trip")], ["finished"])
            self.assertEqual((s.live_folder / "page.html").read_text(), title)
            self.assertEqual(s.sql("live", "SELECT title FROM page WHERE id=1"), [(title,)])


class WhatDefinitionsCall(SmallTest):
    def test_code_goes_only_when_it_is_named(self) -> None:
        """A check or a default of staging's that would write, wait or reach out on live."""
        evil = {"postgresql": ("ALTER TABLE page ADD CONSTRAINT evil CHECK (query_to_xml('DELETE FROM booking',"
                               " true, true, '') IS NOT NULL) NOT VALID", "constraint/page.evil"),
                "mariadb": ("ALTER TABLE page ADD COLUMN evil BIGINT DEFAULT (SETVAL(numbers, 1))", "column/page.evil"),
                "sqlite": ("CREATE TABLE evil (x TEXT CHECK (load_extension(x) IS NULL))", "table/evil")}
        fine = {"postgresql": "ALTER TABLE page ADD COLUMN token INT DEFAULT length('four')",
                "mariadb": "ALTER TABLE page ADD COLUMN token INT DEFAULT (LENGTH('four'))",
                "sqlite": "ALTER TABLE page ADD COLUMN token TEXT CHECK (length(token) > 3)"}
        for engine, (statement, item) in evil.items():
            with self.subTest(engine):
                more = ("CREATE SEQUENCE numbers",) if engine == "mariadb" else ()
                s = self.small(engine, (*PAGES, *BOOKINGS, *more))
                s.sql("staging", statement)
                s.sql("staging", fine[engine])
                with s.crew() as crew:
                    ready = prepare(crew, Choice())
                self.assertIn("column/page.token", [i.id for i in ready.plan.selection.items])
                self.assertNotIn(item, [i.id for i in ready.plan.selection.items])
                self.assertIn(f"{item} runs code on live, for it calls", " ".join(ready.plan.selection.warnings))
                s.merge("*")
                self.assertEqual(len(s.sql("live", "SELECT * FROM booking")), 3)
                self.assertIn(item, s.standings())

    def test_what_a_host_says_makes_a_table_makes_that(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine), closing(recognise(str((s := self.small(engine, BOOKINGS)).live_folder)).open()
                                               ) as live, self.assertRaises(SiteError):
                live.create_table(replace(live.tables()["booking"], ddl="DROP TABLE booking"))
            self.assertEqual(len(s.sql("live", "SELECT * FROM booking")), 3)


class Restrictions(SmallTest):
    """Of a system that nobody knows: what says who may see a thing is part of it."""

    SCHEMA = (
        "CREATE TABLE account (id {key}, login VARCHAR(40) NOT NULL, mail VARCHAR(60), password VARCHAR(90))",
        "CREATE TABLE team (id {key}, name VARCHAR(40) NOT NULL)",
        "CREATE TABLE account_team (id {key}, account_id INTEGER REFERENCES account(id), team_id INTEGER REFERENCES "
        "team(id))",
        "CREATE TABLE page (id {key}, title VARCHAR(40), body VARCHAR(900), made VARCHAR(20), passphrase VARCHAR(40))",
        "CREATE TABLE reading (id {key}, page_id INTEGER NOT NULL REFERENCES page(id), team_id INTEGER NOT NULL "
        "REFERENCES team(id))",
        "INSERT INTO account (login, mail, password) VALUES ('ada', 'ada@ridge.example', 'pbkdf2$1$a$bbbbbbbbbb')",
        "INSERT INTO team (name) VALUES ('Staff'), ('Board')",
        "INSERT INTO account_team (account_id, team_id) VALUES (1, 1), (1, 2)",
        "INSERT INTO page (title, body, passphrase) VALUES ('Plans', 'Ours', NULL), ('Rota', 'Shifts', 'owl'), "
        "('Open', 'All', NULL)",
        "INSERT INTO reading (page_id, team_id) VALUES (1, 1)")

    def test_a_page_goes_with_them_and_is_opened_only_when_it_is_named(self) -> None:
        s = self.small("sqlite", self.SCHEMA, 'editors = ["page", "reading"]\n')
        s.sql("staging", "DELETE FROM reading")
        s.sql("staging", "UPDATE page SET passphrase = NULL, body = 'Shifts, new' WHERE id = 2")
        s.sql("staging", "INSERT INTO page (title, body) VALUES ('Minutes', 'Secret')")
        s.sql("staging", "INSERT INTO reading (page_id, team_id) VALUES (4, 2)")
        s.sql("staging", "UPDATE page SET body = 'All of it' WHERE id = 3")
        with s.crew() as crew:
            ready = prepare(crew, Choice())
        self.assertEqual({"page/3", "page/4"}, {i.id for i in ready.plan.selection.items})
        said = " ".join(ready.plan.selection.warnings)
        for page in ("page/1", "page/2"):
            self.assertIn(f"{page} would be open to those who are kept from it now", said)
        s.merge("page/4")
        self.assertEqual(s.sql("live", "SELECT page_id, team_id FROM reading"), [(1, 1), (4, 2)])
        s.merge("page/1")
        self.assertEqual(s.sql("live", "SELECT page_id, team_id FROM reading"), [(4, 2)])
        self.assertEqual(list(s.standings()), ["page/2", "page/3"])


class SeenAsItIs(SmallTest):
    def test_a_gained_column_is_compared_by_its_bytes(self) -> None:
        kinds = {"sqlite": "TEXT COLLATE NOCASE", "mariadb": "VARCHAR(20)", "postgresql": "VARCHAR(20)"}
        for engine in ENGINES:
            with self.subTest(engine):
                s = self.small(engine, PAGES)
                s.sql("staging", f"ALTER TABLE page ADD COLUMN badge {kinds[engine]} NOT NULL DEFAULT 'none'")
                s.sql("staging", "UPDATE page SET badge='NONE' WHERE id=1")
                s.merge("*")
                self.assertEqual(s.sql("live", "SELECT badge FROM page ORDER BY id"), [("NONE",), ("none",)])

    def test_a_column_that_came_home_is_watched_when_it_is_emptied(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine):
                s = self.small(engine, PAGES)
                s.sql("staging", "ALTER TABLE page ADD COLUMN badge VARCHAR(20)")
                s.sql("staging", "UPDATE page SET badge='gold' WHERE id=1")
                s.merge("*")
                s.sql("live", "UPDATE page SET badge=NULL WHERE id=1")
                s.sql("staging", "UPDATE page SET badge='silver' WHERE id=1")
                self.assertEqual(s.standings(), {"page/1": "clash"})

    @unittest.skipIf(servers.missing(), servers.missing())
    def test_a_row_longer_than_the_server_puts_together(self) -> None:
        s = self.small("mariadb", ("CREATE TABLE page (id {key}, title VARCHAR(50), a LONGTEXT, b LONGTEXT)",
                                   "INSERT INTO page (title) VALUES ('small'), ('big')"))
        s.server.run("SET GLOBAL max_allowed_packet = 1048576")
        try:
            for column in "ab":
                s.sql("live", f"UPDATE page SET {column} = REPEAT('lorem ipsum ', 60000) WHERE id = 2")
            self.assertEqual([(i.id, i.change) for i in s.compare().items.values()], [("page/2", "edited")])
        finally:
            s.server.run("SET GLOBAL max_allowed_packet = 67108864")

    @unittest.skipIf(postgres.missing(), postgres.missing())
    def test_a_gained_column_that_counts(self) -> None:
        s = self.small("postgresql", PAGES)
        s.sql("staging", "ALTER TABLE page ADD COLUMN pos serial")
        s.merge("*")
        asked = "SELECT id, pos FROM page ORDER BY id"
        self.assertEqual(s.sql("live", asked), s.sql("staging", asked))
        s.sql("live", "INSERT INTO page (title) VALUES ('three')")

    def test_what_is_defined_beside_tables_is_told(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine):
                s = self.small(engine, PAGES)
                s.sql("staging", "CREATE VIEW titles AS SELECT title FROM page")
                self.assertEqual(s.compare().programs, ("view titles",))

    def test_half_of_a_pair_in_json(self) -> None:
        s = self.small("sqlite", ("CREATE TABLE page (id {key}, title TEXT, data TEXT)",
                                  """INSERT INTO page (title, data) VALUES ('one', '{"a": "x", "b": 1}')"""))
        s.sql("staging", r"""UPDATE page SET data = '{"a": "cut \ud83d", "b": 1}'""")
        s.sql("live", """UPDATE page SET data = '{"a": "x", "b": 2}'""")
        s.merge("*")
        self.assertEqual(s.sql("live", "SELECT data FROM page"), [(r'{"a": "cut \ud83d", "b": 2}',)])


class Rights(SmallTest):
    def test_a_file_does_not_go_home_as_one_that_is_run_as_its_owner(self) -> None:
        s = self.small("sqlite", PAGES)
        (s.staging_folder / "tool").write_text("staging's\n")
        (s.staging_folder / "tool").chmod(0o6755)
        with s.crew() as crew:
            warned = prepare(crew, Choice(("*",), everyone=True)).plan.selection.warnings
        self.assertTrue(any("tool is set-user-id" in w for w in warned), warned)
        s.merge("*")
        self.assertEqual((s.live_folder / "tool").stat().st_mode & 0o7777, 0o755)


class Order(SmallTest):
    def test_the_last_merge_is_the_last_though_the_clock_was_set_back(self) -> None:
        s = self.small("sqlite", PAGES)

        class Later(datetime):
            @classmethod
            def now(cls, tz: Any = None) -> Any:
                return datetime.now(tz) + timedelta(hours=1)

        s.sql("staging", "UPDATE page SET title='first' WHERE id=1")
        with mock.patch.object(journal, "datetime", Later):
            s.merge("*")
        s.sql("staging", "UPDATE page SET title='second' WHERE id=2")
        last = s.merge("*").id
        self.assertEqual(to_take_back(s.home, "trip", None).id, last)


if __name__ == "__main__":
    unittest.main()
