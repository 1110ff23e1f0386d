"""The edges of a commit on MariaDB: connections that idle, locks and deadlocks, TLS, one server by two names."""

import threading
import time
import unittest
from contextlib import nullcontext
from pathlib import Path
from typing import Any
from unittest import mock
from urllib.parse import quote

import pymysql

from nostos.core.anchor.open_voyage import opened
from nostos.core.apply.files.switch import Switch
from nostos.core.apply.merge import merge
from nostos.core.backup.outlook import inspect_backup as look_into
from nostos.core.backup.restore import restore
from nostos.core.backup.write import backup
from nostos.core.database.registry import locate
from nostos.core.engines.held_lock import MARKS, HeldLock
from nostos.core.engines.mysql.connection import MysqlDatabase
from nostos.core.errors import MergeRefused, RecoverNeeded, SiteError, VoyageError
from nostos.core.files.local import tree as local
from nostos.core.files.local.tree import LocalTree
from nostos.core.hosts import helper
from nostos.core.plan.prepared import prepare
from nostos.core.plan.selection import Choice
from nostos.core.sites.lock import check_finished, holding
from nostos.core.sites.recognise import recognise
from nostos.core.takeback.undo import prepare_undo, to_take_back
from tests.real.servers import PASSWORD, MariaDB, missing
from tests.real.test_mariadb import LibraryTest
from tests.real.test_system import SystemTest


@unittest.skipIf(missing(), missing())
class Idle(LibraryTest):
    """A server that ends every connection which idles for two seconds, and files that take longer."""

    def which(self) -> MariaDB:
        made = MariaDB()
        self.addCleanup(made.stop)
        made.run("SET GLOBAL wait_timeout = 2")
        return made

    def test_clone_merge_backup_and_restore(self) -> None:
        (self.site / "a.txt").write_text("one")
        real_copy, real_pour = local.copy_tree, helper.pour

        def slow(*args: Any, **options: Any) -> Any:
            time.sleep(4)
            yield from real_copy(*args, **options)

        def pour(*args: Any) -> Any:
            time.sleep(4)
            return real_pour(*args)

        with mock.patch.object(local, "copy_tree", slow):
            staging = self.clone()
        self.server.run("UPDATE kr_books SET title='New' WHERE id=1", database=staging)
        (self.folder / "staging/a.txt").write_text("two")
        file = self.folder / "site.tar.zst"
        with mock.patch.object(helper, "pour", pour), opened(self.home, self.home.read("trip")) as crew:
            backup(crew.live, file)
            self.assertTrue(merge(self.home, crew, prepare(crew)).id)
        self.assertEqual((self.site / "a.txt").read_text(), "two")
        with mock.patch.object(helper, "pour", pour):
            restore(self.home, look_into(file, recognise(self.site)))
        self.assertEqual((self.site / "a.txt").read_text(), "one")

    def test_the_lock_is_held_throughout(self) -> None:
        site = recognise(self.site)
        with mock.patch("nostos.core.engines.mysql.lock.WAIT_SECONDS", 1), holding(site) as hold:
            time.sleep(4)
            hold.check()
            with mock.patch.object(LocalTree, "lock", lambda *_: nullcontext()), self.assertRaises(
                    VoyageError), holding(site):
                pass


@unittest.skipIf(missing(), missing())
class Others(LibraryTest):
    def test_a_row_that_a_visitor_holds_and_a_deadlock(self) -> None:
        """The merge waits without holding anything itself, and is there in the end."""
        place = self.clone()
        self.server.run("UPDATE kr_books SET title='New' WHERE id=1", database=place)
        visitor = pymysql.connect(unix_socket=self.server.socket, user="root", database=self.live_name)
        self.addCleanup(visitor.close)
        with visitor.cursor() as cursor:
            cursor.execute("UPDATE kr_books SET shelf='B' WHERE id=1")
        threading.Timer(3, visitor.commit).start()
        with opened(self.home, self.home.read("trip")) as crew:
            self.assertTrue(merge(self.home, crew, prepare(crew)).id)
        book = self.server.run("SELECT title, shelf FROM kr_books WHERE id=1", database=self.live_name)
        self.assertEqual(book, [("New", "B")])
        self.server.run("UPDATE kr_books SET title='Newer' WHERE id=1", database=place)
        real, victims = MysqlDatabase.run, iter((1213, 1205))

        def victim(database: MysqlDatabase, sql: str, values: Any = ()) -> Any:
            number = next(victims, 0) if sql.startswith("UPDATE `kr_books") else 0
            if number:
                raise database.driver.OperationalError(number, "Deadlock found when trying to get lock")
            return real(database, sql, values)

        with mock.patch.object(MysqlDatabase, "run", victim), opened(self.home, self.home.read("trip")) as crew:
            self.assertEqual(merge(self.home, crew, prepare(crew)).tries, 1)
        with mock.patch.object(MysqlDatabase, "run", lambda d, sql, v=(): (_ for _ in ()).throw(
                d.driver.DataError(1406, "Data too long for column 'title'")) if sql.startswith("UPDATE `kr_bo")
                else real(d, sql, v)), opened(self.home, self.home.read("trip")) as crew:
            self.server.run("UPDATE kr_books SET title='Newest' WHERE id=1", database=place)
            with self.assertRaisesRegex(MergeRefused, r"books/1: Data too long.*\(1406\)") as caught:
                merge(self.home, crew, prepare(crew))
            self.assertIsInstance(caught.exception.__cause__, pymysql.err.DataError)

    def test_values_that_change_places_in_narrow_columns(self) -> None:
        self.sql(self.live_name,
                 "CREATE TABLE kr_seats (id int AUTO_INCREMENT PRIMARY KEY, pos tinyint NOT NULL UNIQUE, "
                 "day date NOT NULL UNIQUE, fee decimal(4,2) NOT NULL UNIQUE, mark char(1) NOT NULL UNIQUE);\n"
                 "INSERT INTO kr_seats (pos, day, fee, mark) VALUES (1, '2026-01-01', 1, 'a'), "
                 "(2, '2026-01-02', 2, 'b')")
        place = self.clone()
        self.sql(place, "UPDATE kr_seats SET pos=9, day='2026-02-01', fee=9, mark='z' WHERE id=1;\n"
                        "UPDATE kr_seats SET pos=1, day='2026-01-01', fee=1, mark='a' WHERE id=2;\n"
                        "UPDATE kr_seats SET pos=2, day='2026-01-02', fee=2, mark='b' WHERE id=1")
        with opened(self.home, self.home.read("trip")) as crew:
            merge(self.home, crew, prepare(crew))
        self.assertEqual(self.dump(self.live_name)["seats"], self.dump(place)["seats"])

    def test_a_lock_that_the_server_took_away(self) -> None:
        """Its connection is ended in the last moment before the transaction: nothing is written unheld, and the merge
        begins again."""
        place = self.clone()
        self.server.run("UPDATE kr_books SET title='New' WHERE id=1", database=place)
        locks: list[HeldLock[Any]] = []
        caught_up, marked, titles = Switch.catch_up, HeldLock.write_mark, []

        def marking(lock: HeldLock[Any], *said: str) -> None:
            locks.append(lock)
            marked(lock, *said)

        def ending(switch: Switch) -> None:
            caught_up(switch)
            titles.append(self.server.run("SELECT title FROM kr_books WHERE id=1", database=self.live_name)[0][0])
            if len(locks) == 1:
                self.server.run(f"KILL {locks[0].database.run('SELECT connection_id()')[0][0]}")

        with mock.patch.object(Switch, "catch_up", ending), mock.patch.object(HeldLock, "write_mark", marking), opened(
                self.home, self.home.read("trip")) as crew:
            self.assertEqual(2, merge(self.home, crew, prepare(crew)).tries)
        self.assertNotIn("New", titles)  # at the second try it was as before the first

    def test_another_machine_sees_what_is_unfinished(self) -> None:
        site = recognise(self.site)
        with holding(site) as hold:
            hold.begin("op", "trip")
        (self.site / ".nostos-unfinished").unlink()  # another machine has other folders, and the same server
        for refused in (lambda: check_finished(site), self.clone, lambda: holding(site).__enter__()):
            with self.assertRaisesRegex(RecoverNeeded, "voyage trip"):
                refused()
        with holding(site, recovering="op") as hold:
            hold.end("op")
        self.clone()
        self.assertNotIn(MARKS, repr(self.server.run("SHOW TABLES", database=self.live_name)))


@unittest.skipIf(missing(), missing())
class Urls(LibraryTest):
    def url(self, more: str = "", host: str = "127.0.0.1") -> str:
        return f"mysql://live:{quote(PASSWORD, safe='')}@{host}:{self.server.port}/{self.live_name}{more}"

    def test_two_spellings_of_one_server(self) -> None:
        self.server.run("GRANT ALL ON *.* TO 'live'@'127.0.0.1' IDENTIFIED BY %s", PASSWORD)
        by_socket = recognise(self.site).database
        by_port = locate(self.url(), self.folder, "kr_")
        self.assertTrue(by_socket.same_as(by_port))
        self.assertTrue(by_port.same_as(locate(self.url(host="localhost"), self.folder, "kr_")))
        self.assertFalse(by_socket.same_as(locate(self.url(), self.folder, "other_")))
        with self.assertRaisesRegex(SiteError, "live's own database"):
            self.clone(database=self.url(), prefix="kr_")

    def test_tls_is_used_or_refused(self) -> None:
        authority = self.folder / "ca.pem"
        for more, said in (("?ssl_ca=/nowhere.pem", "TLS options"), ("?ssl_ca=" + quote(str(authority)), "TLS"),
                           ("?ssl_verify_identity=true", "TLS"), ("?tls=yes", "tls"),
                           ("?read_timeout=x", "read_timeout")):
            authority.write_text(Path("/etc/ssl/certs/ca-certificates.crt").read_text() if Path(
                "/etc/ssl/certs/ca-certificates.crt").exists() else "")
            with self.subTest(more), self.assertRaisesRegex(SiteError, said) as caught:
                locate(self.url(more), self.folder).open().close()
            self.assertNotIn(PASSWORD, caught.exception.what)


@unittest.skipIf(missing(), missing())
class Rounds(SystemTest):
    def test_merged_and_taken_back_with_a_removal_while_others_write(self) -> None:
        """Nothing is refused, and no round locks longer for those before it."""
        staging = self.clone()
        self.ask(staging, "$old = get_page_by_path('programme'); update_post_meta($old->ID, 'note', '5 of 17');"
                          "wp_delete_post(get_page_by_path('sample-page')->ID, true); $page = page('Talks');"
                          "set_post_thumbnail($page, picture('comet', 90)); entry('Talks', $page);")
        database = recognise(self.live.folder).database
        stop, errors, written = threading.Event(), [], []

        def visit() -> None:
            db = pymysql.connect(unix_socket=str(database.url.query["unix_socket"]), user="live", password=PASSWORD,
                                 database=str(database.url.database), autocommit=False)
            number = 0
            while not stop.is_set():
                number += 1
                try:
                    with db.cursor() as cursor:
                        cursor.execute("INSERT INTO kr_comments (comment_post_ID, comment_author, comment_content) "
                                       "VALUES (1, 'V', %s)", (f"visit {number}",))
                        cursor.execute("UPDATE kr_options SET option_value = %s WHERE option_name = 'visits'",
                                       (number,))
                    db.commit()
                    written.append(number)
                except pymysql.MySQLError as error:
                    errors.append(str(error))
                    db.rollback()
                time.sleep(0.005)
            db.close()

        self.ask(self.live, "add_option('visits', '0');")
        visitor = threading.Thread(target=visit)
        visitor.start()
        locked: dict[str, list[float]] = {"merge": [], "undo": []}
        try:
            for _ in range(4):
                for verb in locked:
                    with opened(self.home, self.home.read("autumn")) as crew:
                        done = merge(self.home, crew, prepare(crew, Choice(("page/*", "menu/*")))
                                     if verb == "merge" else prepare_undo(
                                         self.home, crew, to_take_back(self.home, "autumn", None)))
                        locked[verb].append(done.locked)
        finally:
            stop.set()
            visitor.join()
        self.assertEqual(errors, [])
        there = self.ask(self.live, "global $wpdb; echo json_encode($wpdb->get_var(\"SELECT COUNT(*) FROM "
                                    "$wpdb->comments WHERE comment_author = 'V'\"));")
        self.assertEqual(int(there), len(written))
        self.assertEqual(len(locked["undo"]), 4)
        self.assertLess(min(locked["undo"][2:]), 10 * min(locked["undo"][:2]) + 0.5)
