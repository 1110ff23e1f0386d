"""Backups of a real server's database, of every awkward type: there and back, elsewhere, killed on the way."""

import unittest
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from unittest import mock
from urllib.parse import quote

from nostos.core.apply.merge import merge
from nostos.core.backup import restore as restoring
from nostos.core.backup.archive import ArchiveReader
from nostos.core.backup.contents import begin
from nostos.core.backup.items import detached, prepare_things
from nostos.core.backup.new_site import make_place
from nostos.core.backup.outlook import inspect_backup
from nostos.core.backup.restore import restore
from nostos.core.backup.write import backup
from nostos.core.database.schema import Value
from nostos.core.engines.mysql.connection import MysqlDatabase
from nostos.core.errors import MergeInterrupted, MergeRefused
from nostos.core.plan.selection import Choice
from nostos.core.sites.recognise import recognise
from nostos.core.takeback.recover import recover
from tests.faults import killed
from tests.real.servers import PASSWORD, PhpSite, free_port, mariadb, missing
from tests.real.test_mariadb import LibraryTest
from tests.real.test_system import SystemTest

MOVES = """INSERT INTO kr_loans (id, since) VALUES (7, '2026-02-02');
INSERT INTO kr_loan_items VALUES (7, 2, NULL);
UPDATE kr_books SET title = 'Ebb' WHERE id = 1;
DELETE FROM kr_hashes WHERE note = 'abc';
CREATE TABLE kr_gained (id int PRIMARY KEY);
INSERT INTO kr_old VALUES (2)"""


@unittest.skipIf(missing(), missing())
class Backups(LibraryTest):
    def setUp(self) -> None:
        super().setUp()
        self.file = self.folder / "library.tar.zst"
        (self.site / "shelf.txt").write_text("north\n")
        self.before = self.dump(self.live_name)
        backup(recognise(self.site), self.file)

    def restore(self, file: Path | None = None) -> restoring.RestoreResult:
        return restore(self.home, inspect_backup(file or self.file, recognise(self.site)))

    def names(self) -> set[object]:
        return {n for (n,) in self.server.run("SELECT table_name FROM information_schema.tables WHERE table_schema=%s",
                                              self.live_name)}

    def same(self) -> bool:
        now = self.dump(self.live_name)
        now.pop("gained", None)
        return repr(now) == repr(self.before)

    def test_there_and_back(self) -> None:
        self.assertFalse(inspect_backup(self.file, recognise(self.site)).acts)
        self.sql(self.live_name, MOVES)
        after, names = self.dump(self.live_name), self.names()
        found = inspect_backup(self.file, recognise(self.site))
        self.assertEqual(found.lost, {"loan_items": 1, "loans": 1, "old": 1})
        self.assertEqual((found.changed, found.back, found.stay), ({"books": 1}, {"hashes": 2}, ("gained",)))
        result = self.restore()
        self.assertTrue(self.same())
        self.assertEqual(self.names(), names)
        # triggers and references are the new tables' own, and no number is given out twice
        self.sql(self.live_name, "UPDATE kr_books SET title = 'Neap' WHERE id = 1;\nINSERT INTO kr_loans () VALUES ()")
        self.assertIn(("100% renamed",), self.dump(self.live_name)["scribbles"])
        self.assertEqual(max(int(str(r[0])) for r in self.dump(self.live_name)["loans"]), 8)
        with self.assertRaises(Exception) as caught:
            self.sql(self.live_name, "INSERT INTO kr_loan_items VALUES (99, 1, NULL)")
        self.assertIn("foreign key constraint", str(caught.exception))
        self.restore(result.safety)
        self.assertEqual(repr(self.dump(self.live_name)), repr(after))

    def test_a_table_that_points_at_what_is_replaced(self) -> None:
        self.sql(self.live_name, MOVES + ";\nCREATE TABLE kr_since (id int PRIMARY KEY, book int unsigned, "
                                         "FOREIGN KEY (book) REFERENCES kr_books (id))")
        before, names = self.dump(self.live_name), self.names()
        with self.assertRaisesRegex(MergeRefused, "kr_since, which the backup does not have, points at kr_books"):
            self.restore()
        self.assertEqual((repr(self.dump(self.live_name)), self.names()), (repr(before), names))

    def test_rows_of_the_last_moment(self) -> None:
        real, seen = restoring.Switch.go, []

        def go(switch: restoring.Switch) -> None:
            self.sql(self.live_name, "INSERT INTO kr_loans (id) VALUES (50)")
            seen.append(50)
            real(switch)

        self.sql(self.live_name, MOVES)
        (self.site / "shelf.txt").write_text("south\n")
        with mock.patch.object(restoring.Switch, "go", go):
            result = self.restore()
        self.assertEqual((len(seen), result.late), (1, 1))
        self.assertTrue(self.same())
        held = begin(ArchiveReader(result.safety)).outline  # as live was around those rows, triggers and views included
        self.assertEqual(([t.name for t in held.triggers], [n for n, _ in held.views]), (["kr_stamp"], ["lent"]))
        self.assertNotIn("nostos_restore", [t.name for t in held.tables])
        self.assertEqual((self.site / "shelf.txt").read_text(), "north\n")
        files = inspect_backup(result.safety, recognise(self.site)).files
        self.assertEqual([(type(f).__name__, f.path) for f in files], [("PutFile", "shelf.txt")])
        site = recognise(self.site)
        prepared = prepare_things(self.home, result.safety, site, Choice(("loans/*",)), self.folder / "scratch")
        database = site.open(readonly=True)
        self.addCleanup(database.close)
        merge(self.home, detached(site, database), prepared)
        self.assertEqual([r[0] for r in self.dump(self.live_name)["loans"]], [1, 50, 7])

    def test_the_switch_is_not_heard_of(self) -> None:
        real = MysqlDatabase.run
        self.sql(self.live_name, MOVES)
        names = self.names()
        for after in (False, True):
            gone: list[str] = []

            def run(database: MysqlDatabase, sql: str, values: Sequence[Value] = (), after: bool = after,
                    gone: list[str] = gone) -> object:
                if sql.startswith("RENAME") and not gone:
                    gone.append(sql)
                    if after:
                        real(database, sql, values)
                    database._connection.close()
                    raise database.driver.OperationalError(2013, "Lost connection to server during query")
                return real(database, sql, values)

            with mock.patch.object(MysqlDatabase, "run", run), self.assertRaises(
                    MergeInterrupted if after else MergeRefused):
                self.restore()
            self.assertEqual([r.ended for r in recover(self.home)], ["finished"] if after else [])
            self.assertEqual((self.same(), self.names()), (after, names))

    def test_killed_while_it_is_taken_back(self) -> None:
        """The server will not rename; and in the middle of taking everything back the process is killed."""
        real = MysqlDatabase.run
        self.sql(self.live_name, MOVES)
        (self.site / "shelf.txt").write_text("south\n")
        moved, names = repr(self.dump(self.live_name)), self.names()

        def run(database: MysqlDatabase, sql: str, values: Sequence[Value] = ()) -> object:
            if sql.startswith("RENAME"):
                raise database.driver.OperationalError(1142, "RENAME command denied")
            return real(database, sql, values)

        def refused() -> None:
            with mock.patch.object(MysqlDatabase, "run", run), suppress(MergeRefused):
                self.restore()

        points = killed(refused, 10**9)
        assert points is not None
        walked = 0
        for number in range(points - 40, points, 2):
            if killed(refused, number) is not None:
                break
            walked += 1
            self.assertLessEqual({r.ended for r in recover(self.home)}, {"taken back"})
            self.assertEqual((repr(self.dump(self.live_name)), self.names()), (moved, names), number)
            self.assertEqual((self.site / "shelf.txt").read_text(), "south\n")
        self.assertGreater(walked, 12)

    def test_killed_anywhere(self) -> None:
        self.sql(self.live_name, MOVES)
        (self.site / "shelf.txt").write_text("south\n")
        moved, names = repr(self.dump(self.live_name)), self.names()
        number, walked, ends = 2, 0, set()
        while killed(self.restore, number) is None:
            if number % 3 == 0:
                killed(lambda: recover(self.home), number % 7 + 1)
            ends |= {r.ended for r in recover(self.home)}
            now = repr(self.dump(self.live_name))
            text = (self.site / "shelf.txt").read_text()
            self.assertTrue((now == moved and text == "south\n") or (self.same() and text == "north\n"), number)
            self.assertEqual(self.names(), names)
            if now != moved:
                self.sql(self.live_name, MOVES.replace("CREATE TABLE kr_gained (id int PRIMARY KEY);\n", ""))
                (self.site / "shelf.txt").write_text("south\n")
                moved = repr(self.dump(self.live_name))
            number, walked = number + 11, walked + 1
        self.assertGreater(walked, 5)
        self.assertEqual(ends, {"finished", "taken back"})

    def test_another_database_and_url(self) -> None:
        name = self.server.new_database()
        url = f"mysql://live:{quote(PASSWORD, safe='')}@/{name}"
        site = make_place(self.file, self.folder / "other", "https://another.example",
                          f"{url}?unix_socket={self.server.socket}", "branch_")
        restore(self.home, inspect_backup(self.file, site), anew=True)
        there = self.dump(name, "branch_")
        self.assertEqual(repr(there).replace("another.example", "library.example"), repr(self.before))
        self.assertEqual((self.folder / "other/shelf.txt").read_text(), "north\n")
        self.assertFalse(any(PASSWORD in p.read_text() for p in self.home.path.rglob("journal.jsonl")))


@unittest.skipIf(missing(), missing())
class RealSystem(SystemTest):
    def test_there_and_back_and_elsewhere(self) -> None:
        site, file = recognise(self.live.folder), self.folder / "site.tar.zst"
        said = """echo json_encode([get_page_by_path('programme') ? 1 : 0, get_option('sidebars'),
            get_post_thumbnail_id(get_page_by_path('programme') ?: 0) > 0]);"""
        before = self.ask(self.live, said)
        backup(site, file)
        self.ask(self.live, "wp_delete_post(get_page_by_path('programme')->ID, true); update_option('sidebars', 'x'); "
                            "wp_insert_comment(['comment_post_ID' => 1, 'comment_content' => 'Late']);")
        (picture,) = self.live.folder.glob("wp-content/uploads/*/*/dome.png")
        picture.unlink()
        found = inspect_backup(file, site)
        self.assertEqual(found.lost, {"comment": 1})
        self.assertEqual(found.back["page"], 1)
        restore(self.home, found)
        self.assertEqual(self.ask(self.live, said), before)
        self.assertTrue(picture.is_file())
        # and as another site, in another database, under another prefix and URL
        other, name = PhpSite(self.folder / "other", free_port()), mariadb().new_database()
        url = f"mysql://live:{quote(PASSWORD, safe='')}@/{name}?unix_socket={mariadb().socket}"
        place = make_place(file, self.folder / "other", other.url, url, "second_")
        restore(self.home, inspect_backup(file, place), anew=True)
        sidebars = self.ask(other, said)[1]
        self.assertTrue(sidebars["deep"]["url"].startswith(other.url))
        self.assertTrue(self.ask(other, "echo json_encode(user_can(1, 'manage_options'));"))
        other.serve(self)
        self.assertIn(f"<p>One, at {other.url}", other.get("/?page_id=" + str(
            self.ask(other, "echo json_encode(get_page_by_path('programme')->ID);"))))


del LibraryTest, SystemTest
