"""The edges of a commit: names, half-way sites, stops, owners, odd names and busy folders."""

import io
import os
import shutil
import signal
import sqlite3
import stat
import subprocess
import sys
import threading
import time
from typing import Any
from unittest import mock

from nostos.cli.environment import Environment
from nostos.cli.main import main
from nostos.core.anchor.names import CanonicalName, Keys, Origin, canonical, of_anchor
from nostos.core.apply.files.switch import Switch
from nostos.core.apply.merge import merge
from nostos.core.apply.verify import Verifier
from nostos.core.clone.afresh import afresh
from nostos.core.clone.clone import clone
from nostos.core.clone.remove import remove
from nostos.core.database.column_types import default_value
from nostos.core.database.schema import Column
from nostos.core.engines.mysql.reflection import _literal
from nostos.core.errors import Disturbed, MergeRefused, RecoverNeeded, SiteError, TargetMoved
from nostos.core.files.entry import digest_of
from nostos.core.files.local.tree import LocalTree
from nostos.core.files.trees import tree_at
from nostos.core.plan.prepared import prepare
from nostos.core.private_files import write_private
from nostos.core.sites import lock as busy
from nostos.core.sites.recognise import recognise
from nostos.core.takeback.recover import recover
from nostos.core.values.merging import merge_sets
from nostos.core.voyages import journal as journals
from nostos.core.voyages.home import Home
from tests.faults import killed
from tests.support import Harbour, SiteTest, rows, template

WIDGET = "extensions/star-chart/widget.html"


def raises(error: BaseException) -> Any:
    return mock.Mock(side_effect=error)


class HalfWay(SiteTest):
    """A merge that was killed after its files were renamed, before its commit."""

    def setUp(self) -> None:
        super().setUp()
        self.h = self.harbour()
        clone(self.h.home, self.h.live_folder, "second", self.folder / "second", "http://127.0.0.1:8433")
        self.before = (self.h.live_folder / WIDGET).read_text()
        (self.h.staging_folder / WIDGET).write_text("NEW")
        self.h.staging.add("page", "talks", "Talks")
        real = Switch.go

        def go(switch: Switch) -> None:
            real(switch)
            os.kill(os.getpid(), signal.SIGKILL)

        with mock.patch.object(Switch, "go", go):
            self.assertIsNone(killed(self.h.merge, 10_000))
        self.assertEqual((self.h.live_folder / WIDGET).read_text(), "NEW")

    def test_nobody_else_writes_and_no_journal_is_thrown_away(self) -> None:
        h, voyage = self.h, self.h.home.read("trip")
        (self.folder / "second/themes/dusk/extra.css").write_text("SECOND")
        other = Home(self.folder / "elsewhere")
        for refused in (lambda: afresh(h.home, voyage), lambda: remove(h.home, voyage), self.second,
                        lambda: clone(other, h.live_folder, "x", self.folder / "x", "http://127.0.0.1:8434")):
            with self.assertRaises(RecoverNeeded) as caught:
                refused()
            self.assertIn("nostos recover trip", caught.exception.next_step)
        self.assertEqual([r.ended for r in recover(h.home)], ["taken back"])
        self.assertEqual((h.live_folder / WIDGET).read_text(), self.before)
        self.second()
        self.assertEqual((h.live_folder / "themes/dusk/extra.css").read_text(), "SECOND")
        self.assertEqual(remove(h.home, voyage), [])

    def second(self) -> None:
        from nostos.core.anchor.open_voyage import opened

        with opened(self.h.home, self.h.home.read("second")) as crew:
            merge(self.h.home, crew, prepare(crew))

    def test_staging_gone(self) -> None:
        shutil.rmtree(self.h.staging_folder)
        self.assertEqual([r.ended for r in recover(self.h.home)], ["taken back"])
        self.assertEqual((self.h.live_folder / WIDGET).read_text(), self.before)
        remove(self.h.home, self.h.home.read("trip"))
        self.assertEqual(self.h.home.names(), ["second"])

    def test_what_live_wrote_meanwhile_is_carried_over(self) -> None:
        folder = (self.h.live_folder / WIDGET).parent
        (folder / "orders.log").write_text("since")
        (folder / "deeper").mkdir()
        (folder / "deeper/cache").write_text("since")
        found = recover(self.h.home)
        self.assertEqual(set(found[0].carried), {"extensions/star-chart/orders.log",
                                                 "extensions/star-chart/deeper/cache"})
        self.assertEqual((folder / "orders.log").read_text(), "since")
        self.assertEqual((folder / "widget.html").read_text(), self.before)

    def test_a_mark_that_a_crash_left(self) -> None:
        folder = next(iter(journals.unfinished(self.h.home.folder("trip"))))
        with mock.patch.object(busy.Hold, "end"):
            recover(self.h.home)
        self.assertTrue(journals.ended(folder))
        self.assertEqual(recover(self.h.home), [])
        self.h.merge()
        self.assertEqual((self.h.live_folder / WIDGET).read_text(), "NEW")


class Refreshing(SiteTest):
    def test_a_refresh_of_a_copy_that_is_gone(self) -> None:
        h = self.harbour()
        (h.live_folder / WIDGET).write_text("LIVE")
        self.assertIsNone(killed(h.refresh, 40))
        shutil.rmtree(h.staging_folder)
        self.assertEqual([r.ended for r in recover(h.home)], ["given up"])
        self.assertEqual(remove(h.home, h.home.read("trip")), [])


class Stopping(SiteTest):
    def test_what_is_said_is_true(self) -> None:
        for step, status in (("stage", 3), ("go", 3), ("tidy", 4)):
            with self.subTest(step):
                self.folder = self.folder / step
                self.folder.mkdir()
                h = self.harbour()
                h.staging.add("page", "talks", "Talks")
                env = Environment(stdin=io.StringIO(""), stdout=io.StringIO(), stderr=io.StringIO(), home=h.home.path)
                with mock.patch.object(Switch, step, raises(KeyboardInterrupt())):
                    self.assertEqual(main(["merge", "trip", "--yes"], env), status)
                self.assertEqual(h.live.find("page", "talks") is not None, status == 4)
                said = env.stderr.getvalue() if hasattr(env.stderr, "getvalue") else ""
                self.assertIn("on live" if status == 4 else "taken back", said)
                self.assertEqual(len(recover(h.home)), status == 4)
                self.assertEqual(h.homeward(), [] if status == 4 else ["page/talks"])

    def test_a_stop_when_all_is_done(self) -> None:
        h = self.harbour()
        for slug, verb, told, status in (("talks", ("merge", "trip", "--yes"), "merging.merged", 1),
                                         ("more", ("compare", "trip"), "comparing.comparison", 3)):
            h.staging.add("page", slug, slug)
            env = Environment(stdin=io.StringIO(""), stdout=io.StringIO(), stderr=io.StringIO(), home=h.home.path)
            with mock.patch(f"nostos.show.{told}", raises(KeyboardInterrupt())):
                self.assertEqual(main([*verb], env), status)
            self.assertEqual(h.live.find("page", slug) is not None, status == 1)

    def test_a_signal_at_any_moment(self) -> None:
        """The program is asked to end while it merges: it says what is so, and that is so."""
        h = self.harbour()
        seen = set()
        for number, delay in enumerate((0.25, 0.45, 0.6, 0.75, 0.9, 1.1, 1.4)):
            slug = f"talk{number}"
            h.staging.add("page", slug, "Talk")
            process = subprocess.Popen([sys.executable, "-m", "nostos", "merge", "trip", "--yes"],
                                       stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
                                       stderr=subprocess.PIPE, text=True,
                                       env={**os.environ, "NOSTOS_HOME": str(h.home.path)})
            time.sleep(delay)
            process.send_signal((signal.SIGTERM, signal.SIGHUP, signal.SIGINT)[number % 3])
            said = process.communicate(timeout=600)[1]
            there = h.live.find("page", slug) is not None
            seen.add(process.returncode)
            if process.returncode in (3, 4):
                self.assertEqual(there, process.returncode == 4, said)
            elif process.returncode in (0, 1):
                self.assertTrue(there, said)
            self.assertEqual(len(recover(h.home)), process.returncode == 4, said)
        self.assertTrue(seen & {0, 3, 4, -15, -1, -2, 130})

    def test_errors_name_their_item_and_their_reason(self) -> None:
        from nostos.core.engines.sqlite.connection import SqliteDatabase

        h = self.harbour()
        h.staging.add("page", "talks", "Talks")
        with mock.patch.object(SqliteDatabase, "insert", raises(sqlite3.OperationalError("datatype mismatch"))), \
                self.assertRaisesRegex(MergeRefused, "page/talks: datatype mismatch") as caught:
            h.merge()
        self.assertIsInstance(caught.exception.__cause__, sqlite3.OperationalError)
        calls = iter((sqlite3.OperationalError("database is locked"), sqlite3.OperationalError("database is locked")))
        real = SqliteDatabase.mark

        def mark(database: SqliteDatabase, *args: str) -> None:
            error = next(calls, None)
            if error:
                raise error
            real(database, *args)

        with mock.patch.object(SqliteDatabase, "mark", mark):
            self.assertEqual(h.merge().tries, 1)  # tried again by itself, as long as nothing was renamed
        self.assertTrue(issubclass(Disturbed, MergeRefused))


class Files(SiteTest):
    def test_names_of_any_length_and_script(self) -> None:
        h = self.harbour()
        names = ["ж" * 112 + ".jpg", "a" * 225 + "-1.jpg", "a" * 225 + "-2.jpg", "/".join(["d" * 200] * 6) + "/deep"]
        for name in names:
            place = h.staging_folder / "uploads" / name
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_text(name)
        h.merge()
        for name in names:
            self.assertEqual((h.live_folder / "uploads" / name).read_text(), name)

    def test_a_folder_that_live_writes_in_all_the_while(self) -> None:
        h = self.harbour()
        (h.staging_folder / WIDGET).write_text("NEW")
        folder = (h.live_folder / WIDGET).parent
        log, stop, missing = folder / "access.log", threading.Event(), []
        log.touch()

        def visitor() -> None:
            number = 0
            while not stop.is_set():
                number += 1
                if not folder.is_dir():
                    missing.append(number)
                with log.open("a") as file:
                    file.write(f"{number}\n")
                (folder / f"cache-{number % 7}.tmp").write_text("x")
                (folder / f"cache-{number % 7}.tmp").replace(folder / f"cache-{number % 7}")

        thread = threading.Thread(target=visitor)
        thread.start()
        try:
            result = h.merge("extension/*")
        finally:
            stop.set()
            thread.join()
        self.assertTrue(result.id)
        self.assertEqual((folder / "widget.html").read_text(), "NEW")
        lines = log.read_text().split()
        self.assertEqual(lines, [str(n) for n in range(1, len(lines) + 1)])
        self.assertEqual(missing, [])
        self.assertEqual(list(h.live_folder.rglob(".nostos-*")), [])

    def test_filesystems_without_second_names_or_exchanges(self) -> None:
        h = self.harbour()
        (h.staging_folder / WIDGET).write_text("NEW")
        (h.staging_folder / "own.txt").write_text("NEW")
        (h.live_folder / "themes/dusk/kept.txt").write_text("LIVE")
        (h.staging_folder / "themes/dusk/style.css").write_text("NEW")
        with mock.patch("os.link", raises(PermissionError(1, "Operation not permitted"))), \
                mock.patch("nostos.core.hosts.helper.rename_with", return_value=False):
            h.merge()
            self.assertEqual((h.live_folder / WIDGET).read_text(), "NEW")
            self.assertEqual((h.live_folder / "themes/dusk/kept.txt").read_text(), "LIVE")
        self.assertEqual(h.standings(), {"theme/dusk": "kept"})

    def test_whose_they_are(self) -> None:
        if os.geteuid():
            self.skipTest("not root: files cannot be given away")
        live = self.folder / "live"
        shutil.copytree(template(), live)
        for path in (live, *live.rglob("*")):
            os.chown(path, 33, 44)
        h = Harbour(self.folder, live)
        for path in h.staging_folder.rglob("*"):
            if path.name not in (".nostos-voyage", "site.db-wal", "site.db-shm"):
                self.assertEqual((path.stat().st_uid, path.stat().st_gid), (33, 44), path)
        (h.staging_folder / WIDGET).write_text("NEW")
        (h.staging_folder / "uploads/2026/new.svg").write_text("x")
        acl = b"\x02\x00\x00\x00\x01\x00\x06\x00\xff\xff\xff\xff\x02\x00\x04\x00\x07\x00\x00\x00\x04\x00\x04\x00" \
              b"\xff\xff\xff\xff\x10\x00\x04\x00\xff\xff\xff\xff\x20\x00\x04\x00\xff\xff\xff\xff"
        try:
            os.setxattr(live / WIDGET, "system.posix_acl_access", acl)
        except OSError:
            acl = b""
        os.chown(live / WIDGET, 35, 46)
        (h.staging_folder / WIDGET).chmod(stat.S_IMODE((live / WIDGET).stat().st_mode))
        h.merge()
        for path, owner in ((live / WIDGET, (35, 46)), (live / "uploads/2026/new.svg", (33, 44)),
                            ((live / WIDGET).parent, (33, 44)),
                            (live / "extensions/star-chart/manifest.toml", (33, 44))):
            self.assertEqual((path.stat().st_uid, path.stat().st_gid), owner, path)
        if acl:
            self.assertEqual(os.getxattr(live / WIDGET, "system.posix_acl_access"), acl)

    def test_a_tree_below_the_sites_folder(self) -> None:
        """The copy's folders are open as live's are, whoever makes them."""
        live = self.folder / "live"
        (live / "public/www/in").mkdir(parents=True)
        (live / "public/www/in/a.txt").write_text("x")
        (live / "rows").mkdir(mode=0o750)
        sqlite3.connect(live / "rows/site.db").execute("CREATE TABLE t (id INTEGER PRIMARY KEY)").connection.close()
        (live / "nostos.toml").write_text('[site]\nname = "lending"\nurl = "https://lending.example"\n'
                                          'database = "sqlite:///rows/site.db"\nfiles = "public/www"\n')
        (live / "public").chmod(0o751)
        h = Harbour(self.folder, live)
        for name in ("", "public", "public/www", "public/www/in", "public/www/in/a.txt", "rows", "nostos.toml"):
            mine, theirs = (h.staging_folder / name).stat(), (live / name).stat()
            self.assertEqual((mine.st_mode, mine.st_uid, mine.st_gid), (theirs.st_mode, theirs.st_uid, theirs.st_gid),
                             name)

    def test_links_swapped_in(self) -> None:
        """A folder becomes a link while it is worked in: nothing is read or written where it leads."""
        outside = self.folder / "outside"
        outside.mkdir()
        (outside / "secret").write_text("secret")
        root = self.folder / "root"
        (root / "sub").mkdir(parents=True)
        (root / "sub/secret").write_text("own")
        tree = LocalTree(root)
        (root / "sub").rename(root / "was")
        (root / "sub").symlink_to(outside)
        for act in (lambda: tree.read("sub/secret"), lambda: tree.write("sub/new", b"x", 0o644),
                    lambda: tree.remove("sub/secret"), lambda: tree.move("was/secret", "sub/x")):
            with self.assertRaisesRegex(SiteError, "through a link"):
                act()
        self.assertEqual([p.name for p in outside.iterdir()], ["secret"])
        (root / "file").symlink_to(outside / "secret")
        with self.assertRaises(SiteError):
            tree.digest("file")

    def test_what_changed_its_kind_or_its_rights_is_no_longer_as_compared(self) -> None:
        h = self.harbour()
        (h.staging_folder / "themes/meadow/style.css").write_text("NEW")
        path = h.live_folder / "themes/meadow/style.css"
        with h.crew() as crew:
            prepared = prepare(crew)
            path.chmod(0o600)
            with self.assertRaises(TargetMoved):
                merge(h.home, crew, prepared)
            self.assertEqual(stat.S_IMODE(path.stat().st_mode), 0o600)
            path.unlink()
            path.symlink_to("layout.html")
            with self.assertRaises(TargetMoved):
                merge(h.home, crew, prepared)
        self.assertTrue(path.is_symlink())

    def test_files_that_vanish_while_they_are_listed(self) -> None:
        for n in range(40):
            (self.folder / f"s{n}").touch()
        real = os.DirEntry.stat if hasattr(os.DirEntry, "stat") else None
        self.assertIsNotNone(real)
        found = []
        for entry in tree_at(self.folder).scan((), ()):
            found.append(entry.path)
            for n in range(40):
                (self.folder / f"s{n}").unlink(missing_ok=True)
        self.assertEqual(len(found), 1)

    def test_private_from_the_start(self) -> None:
        """A clone's folders are closed until all is in them, and its configuration is never live's."""
        seen: list[Any] = []
        live = self.folder / "live"
        shutil.copytree(template(), live)
        (live / "sealed").mkdir(mode=0o700)
        (live / "sealed/open.txt").write_text("x")
        (live / "sealed/open.txt").chmod(0o644)
        words = (live / "observatory.toml").read_text()

        def listen(event: str, args: tuple[Any, ...]) -> None:
            place = self.folder / "staging"
            if seen is not None and event in ("open", "os.mkdir", "os.chmod") and (place / "sealed").is_dir():
                seen.append(stat.S_IMODE(place.stat().st_mode) & 0o077 or stat.S_IMODE(
                    (place / "sealed").stat().st_mode) & 0o077)
                config = place / "observatory.toml"
                seen.append(config.exists() and config.read_text() == words)

        with mock.patch("os.utime", side_effect=lambda *a, real=os.utime, **k: (listen("open", ()), real(*a, **k))[1]):
            Harbour(self.folder, live)
        self.assertGreater(len(seen), 10)
        self.assertFalse(any(seen))


class Names(SiteTest):
    def test_things_of_one_label(self) -> None:
        h = self.harbour()
        for side, more in ((h.staging, ""), (h.live, "s")):
            for taxonomy in ("audience", "subject", "season", "place"):
                side.add_term(taxonomy + more, "news", f"News {taxonomy}")
        items = h.compare().items
        self.assertEqual(len([i for i in items if i.startswith("term/news")]), 8)
        h.merge("term/*")
        self.assertEqual(len(rows(h.live.database, "SELECT 1 FROM terms WHERE slug='news'")), 8)

    def test_the_grammar_of_canonical_names(self) -> None:
        for text, origin, number in (("501", Origin.ANCHOR, 501), ("s7", Origin.STAGING, 7), ("l-3", Origin.LIVE, -3),
                                     ("x0", Origin.NOWHERE, 0), ("g12", Origin.GUARDS, 12), ("-4", Origin.ANCHOR, -4)):
            self.assertEqual(CanonicalName.parse(text), CanonicalName(origin, number))
            self.assertEqual(str(CanonicalName.parse(text)), text)
        for text in ("", "s", "q7", "7s", "s 7"):
            with self.assertRaises(ValueError):
                CanonicalName.parse(text)
        self.assertEqual((of_anchor("-4"), of_anchor("s4"), canonical(Origin.LIVE, 5)), (-4, None, "l5"))
        keys = Keys({"t": {9: "g9"}}, lambda table, key: key == 1)
        self.assertEqual((keys.key("t", "g9"), keys.key("t", "g8"), keys.key("t", "x5"), keys.name("t", 2)),
                         (9, None, 5, "x2"))

    def test_what_guards_made_never_goes_home(self) -> None:
        live = self.folder / "live"
        shutil.copytree(template(), live)
        with sqlite3.connect(live / "data/site.db") as db:
            db.executescript("CREATE TABLE audit(id INTEGER PRIMARY KEY, what TEXT); CREATE TRIGGER a AFTER UPDATE ON "
                             "settings BEGIN INSERT INTO audit(what) VALUES (new.name); END")
        h = Harbour(self.folder, live)
        rows(h.staging.database, "UPDATE audit SET what='seen'")
        self.assertEqual(h.standings(), {})

    def test_a_table_that_merely_looks_like_a_search_index(self) -> None:
        live = self.folder / "live"
        shutil.copytree(template(), live)
        with sqlite3.connect(live / "data/site.db") as db:
            db.executescript("CREATE VIRTUAL TABLE search USING fts5(body); INSERT INTO search VALUES ('star');"
                             "CREATE TABLE search_queries(id INTEGER PRIMARY KEY, q TEXT);")
        h = Harbour(self.folder, live)
        rows(h.staging.database, "INSERT INTO search_queries(q) VALUES ('new')")
        h.merge("search_queries/*")
        self.assertEqual(rows(h.live.database, "SELECT q FROM search_queries"), [("new",)])
        self.assertEqual(rows(h.staging.database, "SELECT count(*) FROM search WHERE search MATCH 'star'"), [(1,)])


class Declared(SiteTest):
    """What a database would do by itself to rows that refer to something which is removed."""

    def test_rows_without_a_key_are_never_removed_along(self) -> None:
        shutil.copytree(template(), self.folder / "site")
        database = self.folder / "site/data/site.db"
        rows(database, "CREATE TABLE bookings (page INTEGER REFERENCES content(id) ON DELETE CASCADE, who TEXT)")
        h = Harbour(self.folder, self.folder / "site")
        page = h.staging.find("page", "winter-closing")["id"]
        rows(database, "INSERT INTO bookings VALUES (?, 'Mira')", page)
        h.staging.remove(page)
        self.assertEqual(h.standings()["page/winter-closing"], "clash")
        rows(database, "DELETE FROM bookings")
        with h.crew() as crew:
            prepared = prepare(crew)
            rows(database, "INSERT INTO bookings VALUES (?, 'Mira')", page)
            with self.assertRaises(TargetMoved):
                merge(h.home, crew, prepared)
        self.assertEqual(rows(database, "SELECT who FROM bookings"), [("Mira",)])

    def test_a_merge_checks_what_the_engine_would_read_whole_tables_for(self) -> None:
        h = self.harbour()
        page = h.staging.find("page", "visit")["id"]
        h.staging.remove(h.staging.find("page", "winter-closing")["id"])
        h.staging.add("page", "talks", "Talks", parent_id=page)
        real = Switch.stage

        def stage(switch: Switch, *more: Any) -> None:  # live removes the parent when all has been looked at
            real(switch, *more)
            rows(h.live.database, "DELETE FROM content WHERE id=?", page)

        with mock.patch.object(Switch, "stage", stage), mock.patch.object(Verifier, "at_the_end"), (
                self.assertRaises(MergeRefused)) as caught:  # which asks for the references that are known
            h.merge()
        self.assertIn("would point at content by its parent_id", caught.exception.what)
        self.assertEqual(h.live.find("page", "winter-closing")["slug"], "winter-closing")


class Small(SiteTest):
    def test_sets_tell_one_from_true(self) -> None:
        self.assertEqual(merge_sets([1], [1, 2], [1, True]), [1, 2, True])

    def test_defaults_as_rows_have_them(self) -> None:
        for declared, travels, default, wanted in (
                ("varchar(20)", "text", _literal("varchar(20)", "publish", ""), "publish"),
                ("varchar(20)", "text", _literal("varchar(20)", "'publish'", ""), "publish"),
                ("decimal(9,2)", "other", "0.00", "0.00"), ("int(11)", "int", "7", 7),
                ("datetime", "other", _literal("datetime", "CURRENT_TIMESTAMP", "DEFAULT_GENERATED"), None)):
            self.assertEqual(default_value(Column("c", declared, False, default, kind=travels)), wanted)

    def test_kept_rows_of_long_names_have_places_of_their_own(self) -> None:
        places = {journals.dropped(self.folder, f"column-{'t' * 100}-{'c' * 60}{n}") for n in range(3)}
        self.assertEqual(len(places), 3)
        self.assertTrue(all(len(p.name) < 200 for p in places))

    def test_nothing_is_written_through_what_others_laid(self) -> None:
        victim = self.folder / "victim"
        victim.write_text("as it was")
        (self.folder / "saved.toml.new").symlink_to(victim)
        write_private(self.folder / "saved.toml", b"mine")
        self.assertEqual(victim.read_text(), "as it was")
        self.assertEqual(digest_of((self.folder / "saved.toml").read_bytes()), digest_of(b"mine"))

    def test_a_lock_that_others_wait_for_is_not_taken_away(self) -> None:
        h = self.harbour()
        lock = h.home.path / "voyages/.trip.lock"
        with h.home.lock("trip"):
            inode = lock.stat().st_ino
            remove(h.home, h.home.read("trip"))
            self.assertEqual(lock.stat().st_ino, inode)

    def test_two_names_of_one_database(self) -> None:
        h = self.harbour()
        (self.folder / "other.db").symlink_to(h.live.database)
        location = recognise(h.live_folder).database
        self.assertTrue(location.same_as(type(location)(location.url.set(database=str(self.folder / "other.db")))))
