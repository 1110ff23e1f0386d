"""A merge that fails half-way leaves live exactly as it was, wherever it fails, and can be run again."""

import errno
import os
import sqlite3
import stat
from collections.abc import Callable
from typing import Any
from unittest import mock

from nostos.core.errors import HostLost, MergeInterrupted, MergeRefused, NostosError, SiteError, VoyageError
from nostos.core.files.entry import STAMP
from nostos.core.sites.lock import marks
from nostos.core.sites.recognise import recognise
from nostos.core.takeback.recover import recover
from nostos.demo.story import Story
from tests.support import Harbour, SiteTest, state


def at_call(number: int, real: Callable[..., Any], error: Exception) -> Callable[..., Any]:
    """`real`, but its call of this number (from 1) raises."""
    calls = iter(range(1, 10_000))

    def call(*args: Any, **options: Any) -> Any:
        if next(calls) == number:
            raise error
        return real(*args, **options)

    return call


class HalfWay(SiteTest):
    """Every step of a merge of everything in the story, broken one at a time."""

    def setUp(self) -> None:
        super().setUp()
        self.h = self.lived_in()
        (self.h.staging.folder / "themes/dusk/style.css").write_text("/* new */\n")
        self.before = state(self.h.live_folder)
        self.due = self.h.homeward()

    def broken(self, target: str, error: Exception, most: int = 50) -> int:
        """Break each call of `target` in turn until a merge gets through. Returns how many points were walked."""
        module, _, name = target.rpartition(".")
        owner = __import__(module, fromlist=[name])
        real = getattr(owner, name)
        for number in range(1, most):
            with mock.patch.object(owner, name, at_call(number, real, error)):
                try:
                    self.h.merge()
                except MergeInterrupted:  # it is on live, and only its tidying is left
                    recover(self.h.home)
                    self.assertEqual({i.partition("/")[0] for i in self.h.homeward()} - {"order", "comment"}, set())
                    return number
                except NostosError:
                    self.assertTrue(state(self.h.live_folder) == self.before, f"{target}, call {number}")
                    self.assertEqual(self.h.homeward(), self.due)
                else:
                    return number - 1
        raise AssertionError(f"{target} never let the merge through")

    def full(self) -> OSError:
        return OSError(errno.ENOSPC, "No space left on device")

    def test_copying_a_file(self) -> None:
        self.assertGreaterEqual(self.broken("nostos.core.hosts.helper.pour", self.full()), 7)

    def test_the_mark_stays_behind(self) -> None:
        """A line that is cut while a merge is taken back: it says that live is marked still, and what takes it away."""
        lost = HostLost("The connection to harbour broke.")
        with mock.patch("nostos.core.apply.merge.apply_rows", side_effect=lost), mock.patch(
                "nostos.core.sites.lock.Hold.end", side_effect=lost), self.assertRaises(MergeInterrupted) as told:
            self.h.merge()
        self.assertIn("mark", told.exception.what)
        self.assertTrue(marks(recognise(str(self.h.live_folder))))
        recover(self.h.home)
        self.assertEqual(([], self.before), (marks(recognise(str(self.h.live_folder))), state(self.h.live_folder)))

    def test_renaming_into_place(self) -> None:
        self.assertGreaterEqual(self.broken("nostos.core.hosts.helper.rename_with", self.full()), 3)

    def test_replacing_a_file(self) -> None:
        self.assertGreaterEqual(self.broken("os.rename", self.full()), 2)

    def test_writing_the_journal(self) -> None:
        self.assertGreaterEqual(self.broken("os.fsync", self.full()), 10)

    def test_a_statement_of_the_database(self) -> None:
        from nostos.core.engines.sqlite.connection import SqliteDatabase

        for name, least in (("insert_rows", 6), ("_many", 1), ("update_rows", 2), ("remove_rows", 1), ("recount", 1),
                            ("add_column", 1), ("mark", 1)):
            real = getattr(SqliteDatabase, name)
            for number in range(1, 40):
                with mock.patch.object(SqliteDatabase, name,
                                       _method(number, real, sqlite3.OperationalError("disk I/O error"))):
                    try:
                        self.h.merge()
                    except NostosError:
                        self.assertTrue(state(self.h.live_folder) == self.before, f"{name}, call {number}")
                    else:
                        self.assertGreater(number, least)
                        break
            self.folder = self.folder / name  # the merge got through: a new site for the next
            self.folder.mkdir()
            self.h = self.harbour()
            Story(self.folder).work_on_staging()
            self.before = state(self.h.live_folder)

    def test_the_commit_itself(self) -> None:
        with self.h.live.database_open() as db:  # refused only when the transaction ends
            db.execute("CREATE TABLE watch (page INTEGER REFERENCES content(id) DEFERRABLE INITIALLY DEFERRED)")
            db.execute("CREATE TRIGGER pry AFTER INSERT ON content WHEN new.kind='page' "
                       "BEGIN INSERT INTO watch VALUES (-1); END")
        before = state(self.h.live_folder)
        with self.assertRaises(MergeRefused) as caught:
            self.h.merge()
        self.assertIn("FOREIGN KEY", caught.exception.what)
        self.assertTrue(state(self.h.live_folder) == before)
        self.assertEqual(list(self.h.live_folder.rglob(".nostos-2*")), [])

    def test_the_ledger(self) -> None:
        """Something alters what live gained while the merge writes: found, and taken back."""
        with self.h.live.database_open() as db:
            db.execute("CREATE TRIGGER harm AFTER INSERT ON content WHEN new.slug='autumn-programme' "
                       "BEGIN UPDATE comments SET body='' WHERE id = (SELECT max(id) FROM comments); END")
        before = state(self.h.live_folder)
        with self.assertRaises(MergeRefused) as caught:
            self.h.merge()
        self.assertIn("ledger does not hold for comment", caught.exception.what)
        self.assertTrue(state(self.h.live_folder) == before)

    def test_live_locked_by_another(self) -> None:
        other = sqlite3.connect(self.h.live.database, isolation_level=None)
        other.execute("BEGIN IMMEDIATE")
        with mock.patch("nostos.core.engines.sqlite.driver.LOCK_WAIT_SECONDS", 0.1), \
                mock.patch("nostos.core.apply.merge._PATIENCE_SECONDS", 0.5), self.assertRaises(MergeRefused):
            self.h.merge()
        other.close()
        self.assertTrue(state(self.h.live_folder) == self.before)

    def test_a_link_out_of_the_tree(self) -> None:
        """A folder of live that leads elsewhere is not written through."""
        outside = self.folder / "outside"
        outside.mkdir()
        (self.h.staging.folder / "extra").mkdir()
        (self.h.staging.folder / "extra" / "file.txt").write_text("x")
        (self.h.live_folder / "extra").symlink_to(outside)
        with self.assertRaises(SiteError):
            self.h.merge("file/extra/*")
        self.assertEqual(list(outside.iterdir()), [])


def _method(number: int, real: Callable[..., Any], error: Exception) -> Callable[..., Any]:
    call = at_call(number, real, error)

    def method(self: Any, *args: Any, **options: Any) -> Any:
        return call(self, *args, **options)

    return method


class Cloning(SiteTest):
    def test_everything_is_removed_when_a_clone_fails(self) -> None:
        for target in ("nostos.core.files.local.tree.copy_tree", "nostos.core.clone.clone.set_guards",
                       "nostos.core.clone.copy_rows._TableCopy.prove"):
            with mock.patch(target, side_effect=OSError(errno.ENOSPC, "No space left on device")), \
                    self.assertRaises((NostosError, OSError)):
                self.harbour()
            self.assertFalse((self.folder / "staging").exists())
            self.assertEqual(list((self.folder / "home" / "voyages").glob("trip")), [])
            os.rename(self.folder / "live", self.folder / f"old-{target}")
        self.assertEqual(self.harbour().standings(), {})

    def test_a_killed_clone_is_cleaned_up_by_the_next(self) -> None:
        with (mock.patch("nostos.core.clone.clone.remove"),
              mock.patch("nostos.core.clone.clone.set_guards", side_effect=OSError),
              self.assertRaises(OSError)):
            self.harbour()
        self.assertTrue((self.folder / "staging" / STAMP).exists())
        h = Harbour(self.folder / "again", self.folder / "live")
        voyage = h.home.read("trip")
        h.home.write(type(voyage)(**{**{f: getattr(voyage, f) for f in voyage.__dataclass_fields__},
                                     "state": "cloning"}))
        with self.assertRaises(VoyageError), h.crew():
            pass
        self.assertEqual(Harbour(self.folder / "again", self.folder / "live").standings(), {})

    def test_what_nostos_makes_is_private(self) -> None:
        h = self.harbour()
        h.staging.add("page", "new", "New")
        h.merge()
        for path in [h.home.path, *h.home.path.rglob("*")]:
            self.assertEqual(stat.S_IMODE(path.stat().st_mode) & 0o077, 0, path)

    def test_odd_files(self) -> None:
        live = self.folder / "live"
        Harbour(self.folder / "model")
        os.rename(self.folder / "model" / "live", live)
        (live / "uploads/inner.svg").symlink_to("2026/star-wheel.svg")
        (live / "uploads/outer").symlink_to("/etc/hostname")
        os.mkfifo(live / "pipe")
        (live / "sealed").mkdir(mode=0o750)
        (live / "sealed/é \n odd.txt").write_text("x")
        h = Harbour(self.folder, live)
        self.assertEqual({p.path for p in h.cloned.passed}, {"uploads/outer", "pipe"})
        self.assertEqual(os.readlink(h.staging_folder / "uploads/inner.svg"), "2026/star-wheel.svg")
        self.assertEqual((h.staging_folder / "sealed").stat().st_mode & 0o777, 0o750)
        self.assertTrue((h.staging_folder / "sealed/é \n odd.txt").exists())
        self.assertEqual(h.standings(), {})
