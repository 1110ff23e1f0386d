"""The real PHP system on MariaDB: merges and undos killed, servers that go away, two at once on one site."""

import multiprocessing
import threading
import time
import unittest
from contextlib import nullcontext, suppress
from typing import Any
from unittest import mock

import pymysql

from nostos.core.anchor.open_voyage import opened
from nostos.core.apply.merge import merge
from nostos.core.engines.mysql.connection import MysqlDatabase
from nostos.core.errors import MergeInterrupted, MergeRefused, SiteError, VoyageError
from nostos.core.files.local.tree import LocalTree
from nostos.core.plan.prepared import prepare
from nostos.core.sites import lock as busy
from nostos.core.sites.recognise import recognise
from nostos.core.takeback.recover import recover
from nostos.core.takeback.undo import prepare_undo, to_take_back
from tests.faults import killed
from tests.real.servers import MariaDB, missing
from tests.real.test_mariadb import LibraryTest
from tests.real.test_system import SystemTest
from tests.support import tree

WORK = """$page = page('Talks', ['post_content' => '<p>See <a href="' . home_url('/') . '">home</a></p>']);
  set_post_thumbnail($page, picture('comet', 90)); entry('Talks', $page);
  update_option('blogdescription', 'Clear skies'); """
SEEN = """global $wpdb; echo json_encode([
  $wpdb->get_results("SELECT post_title, IF(post_type='nav_menu_item', '', post_name), post_status FROM $wpdb->posts
    ORDER BY 1, 2"),
  $wpdb->get_results("SELECT meta_key, count(*) FROM $wpdb->postmeta GROUP BY 1"), get_option('blogdescription'),
  array_map(fn($e) => $e->title, wp_get_nav_menu_items('Main'))]);"""


@unittest.skipIf(missing(), missing())
class Killed(SystemTest):
    def done(self, undo: bool) -> None:
        with opened(self.home, self.home.read("autumn")) as crew:
            merge(self.home, crew, prepare_undo(self.home, crew, to_take_back(self.home, "autumn", None))
                  if undo else prepare(crew))

    def seen(self) -> Any:
        return self.ask(self.live, SEEN), {p: d for p, d in tree(self.live.folder).items() if "uploads" in p}

    def test_merge_and_undo_anywhere(self) -> None:
        self.ask(self.clone(), WORK)
        points = {False: 3, True: 5}  # of merges, and of undos
        states = [self.seen()]
        self.done(undo=False)
        states.append(self.seen())
        self.done(undo=True)
        self.assertTrue(self.seen() == states[0])
        walked, merged = 0, False
        while walked < 24:
            number, points[merged] = points[merged], points[merged] + 13
            if killed(lambda undo=merged: self.done(undo), number) is not None:  # type: ignore[misc]
                break
            recover(self.home)
            now = self.seen()
            self.assertTrue(now in states, f"point {number}, {'undo' if merged else 'merge'}")
            if (now == states[1]) is merged:  # taken back: do it
                self.done(undo=merged)
            merged, walked = not merged, walked + 1
            self.assertTrue(self.seen() == states[merged])
        self.assertGreater(walked, 8)


@unittest.skipIf(missing(), missing())
class Servers(LibraryTest):
    def which(self) -> MariaDB:
        made = MariaDB(flush=1)  # what was committed is on the disk
        self.addCleanup(made.stop)
        return made

    def test_the_server_is_restarted(self) -> None:
        """In the middle of the transaction, before its commit is carried out and after that, unheard of."""
        place = self.clone()
        real = MysqlDatabase._cursor

        def at(word: str, after: bool) -> Any:
            gone: list[str] = []

            def cursor(database: MysqlDatabase, sql: str, *rest: Any, **options: Any) -> Any:
                hit = sql.startswith(word) and not gone and database.prefix == "kr_" and database.name != place
                if hit and after:
                    real(database, sql, *rest, **options)
                if hit:
                    gone.append(sql)
                    self.server.restart()
                return real(database, sql, *rest, **options)
            return cursor

        for number, (word, after, there) in enumerate((("INSERT INTO `kr_books", False, 0), ("COMMIT", False, 0),
                                                       ("COMMIT", True, 1))):
            title = f"Home {number}"
            self.server.run("INSERT INTO kr_books (isbn, title) VALUES (%s, %s)", title, title, database=place)
            with opened(self.home, self.home.read("trip")) as crew:
                prepared = prepare(crew)
                tried_again = False
                with mock.patch.object(MysqlDatabase, "_cursor", at(word, after)), suppress(
                        MergeRefused, MergeInterrupted, SiteError):
                    tried_again = bool(merge(self.home, crew, prepared).id)
            recover(self.home)
            titles = [r[2] for r in self.dump(self.live_name)["books"]]
            self.assertEqual(titles.count(title), there or tried_again)
            with opened(self.home, self.home.read("trip")) as crew:
                merge(self.home, crew, prepare(crew))
            self.assertEqual([r[2] for r in self.dump(self.live_name)["books"]].count(title), 1)


@unittest.skipIf(missing(), missing())
class Locks(LibraryTest):
    def test_rows_that_others_hold(self) -> None:
        """A row of the selection is locked on live; a deadlock of which the merge is the victim."""
        place = self.clone()
        self.server.run("UPDATE kr_books SET title='New' WHERE id=1", database=place)
        before = self.dump(self.live_name)
        other = pymysql.connect(unix_socket=self.server.socket, user="root", database=self.live_name)
        self.addCleanup(other.close)
        with other.cursor() as cursor:
            cursor.execute("SELECT * FROM kr_books WHERE id=1 FOR UPDATE")

        def refused() -> None:
            with opened(self.home, self.home.read("trip")) as crew, self.assertRaises(MergeRefused), \
                    mock.patch("nostos.core.apply.merge._PATIENCE_SECONDS", 1.0):
                merge(self.home, crew, prepare(crew))
            now = self.dump(self.live_name)
            now.pop("nostos_merges", None)
            self.assertEqual(repr(now), repr(before))
            self.assertEqual(recover(self.home), [])

        with mock.patch("nostos.core.engines.mysql.session._LOCK_WAIT_SECONDS", 1):
            refused()
        other.rollback()
        real = MysqlDatabase.run

        def victim(database: MysqlDatabase, sql: str, values: Any = ()) -> Any:
            if sql.startswith("UPDATE `kr_books"):
                real(database, "ROLLBACK")  # as the server does
                raise database.driver.OperationalError(1213, "Deadlock found when trying to get lock")
            return real(database, sql, values)

        with mock.patch.object(MysqlDatabase, "run", victim):
            refused()
        with opened(self.home, self.home.read("trip")) as crew:
            merge(self.home, crew, prepare(crew))
        self.assertIn("New", [r[2] for r in self.dump(self.live_name)["books"]])


@unittest.skipIf(missing(), missing())
class TwoAtOnce(LibraryTest):
    def test_one_waits_or_refuses(self) -> None:
        site = recognise(self.site)
        with mock.patch.object(busy, "_WAIT_SECONDS", 1.0):
            ready, end = multiprocessing.Event(), multiprocessing.Event()

            def hold() -> None:
                with busy.holding(recognise(self.site)):
                    ready.set()
                    end.wait(30)

            other = multiprocessing.get_context("fork").Process(target=hold)
            other.start()
            ready.wait(30)
            with self.assertRaisesRegex(VoyageError, f"process {other.pid} on this machine"), busy.holding(site):
                pass
            with mock.patch.object(LocalTree, "lock", lambda *_: nullcontext()), self.assertRaisesRegex(
                    VoyageError, "connection [0-9]+ of live from localhost"), busy.holding(site):
                pass
            threading.Timer(0.4, end.set).start()
            begun = time.monotonic()
            with busy.holding(site):  # it waits for a moment
                self.assertGreater(time.monotonic() - begun, 0.3)
            other.join()
            ready.clear()
            end.clear()
            other = multiprocessing.get_context("fork").Process(target=hold)
            other.start()
            ready.wait(30)
            other.kill()
            other.join()
            with busy.holding(site):  # a dead process holds nothing
                pass


del LibraryTest, SystemTest  # they would be run here once more
