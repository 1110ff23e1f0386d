"""Backups: everything is in them, ordinary tools read them, nothing damaged or hostile is taken, and what a restore
replaces is never lost."""


import os
import shutil
import subprocess
import tarfile
import tempfile
import unittest
from collections.abc import Callable
from contextlib import closing, suppress
from io import BytesIO
from pathlib import Path
from unittest import mock

import msgspec
from hypothesis import HealthCheck, given, settings

from nostos.around.housekeeping import SETTINGS, age_out, space
from nostos.core.apply.merge import merge
from nostos.core.backup import layout
from nostos.core.backup import restore as restoring
from nostos.core.backup.archive import ArchiveReader, ArchiveWriter, Member
from nostos.core.backup.items import detached, prepare_things
from nostos.core.backup.new_site import make_place
from nostos.core.backup.outlook import inspect_backup
from nostos.core.backup.restore import RestoreResult, restore
from nostos.core.backup.write import backup
from nostos.core.errors import NostosError, SelectionError
from nostos.core.plan.selection import Choice
from nostos.core.sites.recognise import Site, recognise
from nostos.core.takeback.undo import done, prepare_undo, to_take_back
from nostos.core.voyages.home import Home
from nostos.demo.system import Observatory
from tests.apply.test_laws import EXAMPLES, PHASES, Step, steps, take
from tests.support import Harbour, SiteTest, contents, dangling, rows, state, template, tree

Change = Callable[[Member, bytes], "tuple[str, bytes] | None"]


def everything(site: Observatory) -> object:
    """All of a site that is in a backup."""
    return contents(site.database, ()), {p: d for p, d in tree(site.folder).items() if not p.startswith("outbox/")}


class BackupTest(SiteTest):
    def setUp(self) -> None:
        super().setUp()
        self.h: Harbour = self.lived_in()
        self.file = self.folder / "site.tar.zst"

    @property
    def site(self) -> Site:
        return recognise(self.h.live_folder)

    def everything(self) -> object:
        return everything(self.h.live)

    def restore(self, file: Path | None = None) -> RestoreResult:
        return restore(self.h.home, inspect_backup(file or self.file, self.site))

    def live_moves_on(self) -> int:
        live = self.h.live
        order = live.order("kr-late", "Late Visitor", [(live.find("product", "evening-ticket")["id"], 1, 900)])
        live.remove(live.find("page", "winter-closing")["id"])
        live.edit(live.find("page", "visit")["id"], title="Changed")
        (live.folder / "themes/dusk/style.css").write_text("/* broken */\n")
        (live.folder / "new").mkdir()
        (live.folder / "new/file.txt").write_text("new\n")
        shutil.rmtree(live.folder / "extensions/star-chart")
        return order


class There(BackupTest):
    def test_and_back(self) -> None:
        rows(self.h.live.database, "CREATE VIRTUAL TABLE found USING fts5(text)")
        rows(self.h.live.database, "INSERT INTO found VALUES ('a comet')")
        rows(self.h.live.database, "CREATE TABLE odd (id INTEGER PRIMARY KEY, a BLOB, b REAL, c TEXT, d INT)")
        rows(self.h.live.database, "INSERT INTO odd VALUES (1, x'00ff', 9e999, CAST(x'ff41' AS TEXT), 1 << 62)")
        (self.h.live_folder / "link").symlink_to("themes/dusk")
        (self.h.live_folder / "empty").mkdir()
        style = self.h.live_folder / "themes/dusk/style.css"
        os.utime(style, (1_700_000_000, 1_700_000_000))
        before = self.everything()
        made = backup(self.site, self.file)
        self.assertEqual(self.file.stat().st_mode & 0o777, 0o600)
        self.assertEqual(inspect_backup(self.file, self.site).acts, False)
        order = self.live_moves_on()
        after = self.everything()
        found = inspect_backup(self.file, self.site)
        self.assertEqual((found.lost, found.back), ({"order": 1}, {"page": 1}))
        self.assertEqual(found.changed["page"], 1)
        result = self.restore()
        self.assertTrue(before == self.everything())
        self.assertEqual(rows(self.h.live.database, "SELECT count(*) FROM found WHERE found MATCH 'comet'"), [(1,)])
        self.assertEqual((self.h.live_folder / "link").readlink(), Path("themes/dusk"))
        self.assertFalse((self.h.live_folder / "new").exists())
        self.assertEqual(style.stat().st_mtime, 1_700_000_000)
        self.assertEqual(result.rows, made.rows)
        # no number is given out twice, and what was replaced is in a backup of its own
        again = self.h.live.order("kr-after", "Visitor", [])
        self.assertGreater(again, order)
        self.restore(result.safety)
        self.assertTrue(after == self.everything())

    @unittest.skipIf(shutil.which("zstd") is None, "not installed: zstd")
    def test_ordinary_tools_read_it(self) -> None:
        backup(self.site, self.file)
        out = self.folder / "out"
        out.mkdir()
        subprocess.run(["tar", "--zstd", "-xf", self.file, "-C", out], check=True)
        subprocess.run(["sha256sum", "--quiet", "-c", "SHA256SUMS"], cwd=out, check=True)
        (piece,) = out.glob("database/rows/*-members/*.jsonl")
        head, *lines = (msgspec.json.decode(line) for line in piece.read_bytes().splitlines())
        names = [n for (n,) in rows(self.h.live.database, "SELECT login FROM members")]
        self.assertEqual({line[head.index("login")] for line in lines}, set(names))
        self.assertEqual((out / "files/themes/dusk/style.css").read_bytes(),
                         (self.h.live_folder / "themes/dusk/style.css").read_bytes())

    def test_a_schema_that_lost_something(self) -> None:
        backup(self.site, self.file)
        rows(self.h.live.database, "DROP INDEX comments_by_content")
        rows(self.h.live.database, "ALTER TABLE comments DROP COLUMN status")
        rows(self.h.live.database, "DROP TABLE sessions")
        found = inspect_backup(self.file, self.site)
        self.assertEqual((found.tables_back, found.acts), (("sessions", "comments.status"), True))
        self.restore()
        self.assertFalse(inspect_backup(self.file, self.site).acts)
        self.assertEqual(rows(self.h.live.database, "SELECT DISTINCT status FROM comments"), [("shown",)])
        self.assertEqual(len(rows(self.h.live.database, "PRAGMA index_list(comments)")), 1)

    def test_orders_in_the_last_moment(self) -> None:
        backup(self.site, self.file)
        orders: list[str] = []
        real = restoring.backup

        def and_then_an_order(*args: object, **options: object) -> object:
            made = real(*args, **options)  # type: ignore[arg-type]
            if len(orders) < 2:
                orders.append(f"kr-{len(orders)}")
                self.h.live.order(orders[-1], "Visitor", [])
            return made

        with mock.patch.object(restoring, "backup", and_then_an_order):
            result = self.restore()
        self.assertEqual(rows(self.h.live.database, "SELECT 1 FROM content WHERE slug='kr-1'"), [])
        self.assertEqual(len(list(result.safety.parent.iterdir())), 1)
        self.restore(result.safety)
        for order in orders:
            self.assertEqual(self.h.live.find("order", order)["title"], "Order of Visitor")

    def test_single_things(self) -> None:
        backup(self.site, self.file)
        order = self.live_moves_on()
        page = self.h.live.add("page", "since", "Since")
        before = tree(self.h.live_folder)
        site, choice = self.site, Choice(("page/winter-closing", "extension/*"))
        prepared = prepare_things(self.h.home, self.file, site, choice, self.folder / "scratch")
        database = site.open(readonly=True)
        self.addCleanup(database.close)
        merge(self.h.home, detached(site, database), prepared)
        live = self.h.live
        self.assertEqual(live.find("page", "winter-closing")["title"], "Closed in deep winter")
        self.assertEqual(live.find("page", "visit")["title"], "Changed")
        self.assertEqual((live.find("order", "kr-late")["id"], live.find("page", "since")["id"]), (order, page))
        after = tree(live.folder)
        self.assertEqual({p for p, _ in before.items() ^ after.items()},
                         {"extensions/star-chart/manifest.toml", "extensions/star-chart/widget.html"})
        self.assertEqual(dangling(live.database), [])
        with self.assertRaises(SelectionError):
            prepare_things(self.h.home, self.file, site, Choice(("page/nothing",)), self.folder / "scratch")
        again = prepare_things(self.h.home, self.file, site, Choice(("*",)), self.folder / "scratch")
        self.assertNotIn("order/kr-late", [c.item.id for c in again.plan.selection.chosen])

    def test_another_place_and_url(self) -> None:
        backup(self.site, self.file)
        place = self.folder / "other"
        with mock.patch("nostos.core.backup.new_site.adapt", side_effect=OSError("no")), self.assertRaises(OSError):
            make_place(self.file, place, "https://other.example", None, None)
        self.assertFalse(place.exists())
        site = make_place(self.file, place, "https://other.example", None, None)
        result = restore(self.h.home, inspect_backup(self.file, site), anew=True)
        self.assertFalse(result.safety.exists())
        self.assertFalse(inspect_backup(self.file, site).acts)
        there = repr(contents(place / "data/site.db"))
        self.assertIn("https://other.example/", there)
        self.assertNotIn("127.0.0.1", there)
        self.assertEqual(tree(place).keys() - tree(self.h.live_folder).keys(), set())


class Law(unittest.TestCase):
    @settings(max_examples=EXAMPLES // 4, deadline=None, phases=PHASES, suppress_health_check=list(HealthCheck))
    @given(steps, steps)
    def test_restoring_is_the_identity(self, first: list[Step], since: list[Step]) -> None:
        folder = Path(tempfile.mkdtemp(prefix="nostos-back-"))
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        shutil.copytree(template(), folder / "live")
        home, site, live = Home(folder / "home"), Observatory(folder / "live"), recognise(folder / "live")
        for step in first:
            take(site, "a", step)
        before = everything(site)
        backup(live, folder / "a.tar.zst")
        for step in since:
            take(site, "b", step)
        after = everything(site)
        found = inspect_backup(folder / "a.tar.zst", live)
        self.assertEqual(found.acts, before != after)
        if found.acts:
            safety = restore(home, found).safety
            self.assertTrue(before == everything(site))
            restore(home, inspect_backup(safety, live))
            self.assertTrue(after == everything(site))


class NotTaken(BackupTest):
    def refused(self, says: str = "", file: Path | None = None) -> None:
        with self.assertRaises(NostosError) as caught:
            inspect_backup(file or self.file, self.site)
        self.assertIn(says, caught.exception.what)

    def members(self) -> list[tuple[str, bytes]]:
        reader = ArchiveReader(self.file)
        with closing(reader):
            return [(member.name, body.read(1 << 30)) for member, body in reader.walk()]

    def test_damaged_files(self) -> None:
        backup(self.site, self.file)
        whole = self.file.read_bytes()
        before, said = state(self.h.live_folder), self.members()
        for at in [*range(0, len(whole), 2999), *range(len(whole) - 300, len(whole), 17)]:
            self.file.write_bytes(whole[:at])
            self.refused()
        for at in range(0, len(whole) - 120, 399):
            self.file.write_bytes(whole[:at] + bytes([whole[at] ^ 0x41]) + whole[at + 1:])
            with suppress(NostosError):
                inspect_backup(self.file, self.site)
                self.assertEqual(self.members(), said)  # a bit that means nothing
        self.file.write_bytes(whole + b"more")
        self.refused("is not a backup, or its end is missing")
        self.assertTrue(before == state(self.h.live_folder))

    def forged(self, change: Change = lambda m, c: (m.name, c),
               more: Callable[[ArchiveWriter], None] = lambda _: None) -> None:
        """A backup with right digests throughout and something else in it."""
        good = self.folder / "good.tar.zst"
        if not good.exists():
            backup(self.site, good)
        self.file.unlink(missing_ok=True)
        reader = ArchiveReader(good)
        with ArchiveWriter(self.file) as writer:
            for member, body in reader.walk():
                kept = change(member, body.read(1 << 20)) if member.kind == "file" else None
                if kept is not None:
                    writer.add(*kept)
            more(writer)
            writer.finish()
        reader.close()

    def test_hostile_files(self) -> None:
        def put(name: str) -> Callable[[ArchiveWriter], None]:
            return lambda w: w.add(name, b"x")

        for name in ("files/../../up", "/etc/absolute", "files/a/../../b", "files//x", "files/.nostos-x", "other/x"):
            self.forged(more=put(name))
            self.refused()
        for target in ("/etc/passwd", "../../outside", "a/../../../b", ""):
            self.forged(more=lambda w, t=target: w.add_link("files/link", t))  # type: ignore[misc]
            self.refused("a link in it leads out of its folder")
        self.forged(more=lambda w: (w.add_link("files/l", "themes"), w.add("files/l/x", b"x"))[0])  # type: ignore[func-returns-value]
        self.refused("leads through a link")
        self.forged(more=lambda w: w._header("files/device", tarfile.CHRTYPE, 0, 0o600, 0))
        self.refused("neither a file, a folder nor a link")
        self.forged(more=lambda w: w._header("x" * 90, tarfile.XHDTYPE, 1 << 40, 0o600, 0))
        self.refused()
        self.forged(more=lambda w: w.add("configuration/x", b"x" * (65 << 20)))
        self.refused("too large")

    def test_more_in_it_than_it_says(self) -> None:
        self.forged(more=lambda w: w.add_stream("files/zeros", BytesIO(), 1 << 30, 0o600, 0))
        raw = self.file.read_bytes()
        self.assertLess(len(raw), 1 << 20)
        reader = ArchiveReader(self.file)
        reader.close()
        tail = layout.Tail(layout.FORMAT, layout.VERSION, reader.tail.members, 1 << 20, reader.tail.sums)
        self.file.write_bytes(raw[:-layout.TAIL_SIZE] + tail.written())
        self.refused("more in it than it says")

    def test_a_schema_that_does_more(self) -> None:
        def said(old: str, new: str) -> Change:
            def change(member: Member, content: bytes) -> tuple[str, bytes]:
                if member.name == layout.SCHEMA:
                    self.assertIn(old.encode(), content)
                    content = content.replace(old.encode(), new.encode(), 1)
                return member.name, content
            return change

        for new in ("DROP TABLE comments; --", "CREATE TABLE other (",
                    "ATTACH DATABASE 'x' AS y; CREATE TABLE comments ("):
            self.forged(said("CREATE TABLE comments (", new))
            self.refused(" is not ")
        self.forged(said("CREATE TABLE comments (", "CREATE TABLE comments AS SELECT 1; -- ("))
        self.refused(" is not ")
        self.forged(said('"engine": "sqlite"', '"engine": "mysql"'))
        self.refused("its parts do not belong together")

    def test_rows_that_are_none(self) -> None:
        def rows_are(content: bytes) -> Change:
            return lambda m, c: (m.name, content if m.name.endswith("-comments/000001.jsonl") else c)

        for wrong in (b'["id"]\n[1]\n', b"no json\n", b"[" * 100_000 + b"\n"):
            self.forged(rows_are(wrong))
            with self.assertRaises(NostosError):
                inspect_backup(self.file, self.site)

    def test_places_and_times(self) -> None:
        site = self.site
        backup(site, self.file)
        for to in (self.file, Path(site.files.where) / "backup.tar.zst"):
            with self.assertRaises(NostosError):
                backup(site, to)
        self.assertEqual(list(Path(site.files.where).glob("*.zst*")), [])
        with self.assertRaisesRegex(NostosError, "is the staging copy of voyage trip"):
            restore(self.h.home, inspect_backup(self.file, recognise(self.h.staging_folder)))
        with mock.patch("os.link", side_effect=PermissionError(1, "Operation not permitted")):
            backup(site, self.folder / "no-links.tar.zst")
        self.assertEqual([p.name for p in self.folder.glob("no-links*")], ["no-links.tar.zst"])
        with mock.patch("nostos.core.backup.archive._CountedStream.write", side_effect=OSError(28, "No space left")), \
                self.assertRaisesRegex(NostosError, "could not be written: No space left"):
            backup(site, self.folder / "full.tar.zst")
        self.assertEqual(list(self.folder.glob("full*")), [])
        self.live_moves_on()
        before = state(self.h.live_folder)
        with mock.patch("nostos.core.backup.restore.SPARE", 1 << 60), self.assertRaisesRegex(NostosError, "MB free"):
            self.restore()
        self.assertTrue(before == state(self.h.live_folder))


class House(BackupTest):
    def test_what_ages_out(self) -> None:
        h = self.h
        for name in ("one", "two", "three"):
            h.staging.set(name, "said")
            h.merge(f"setting/{name}")
        with h.crew() as crew:  # the second one is taken back
            merge(h.home, crew, prepare_undo(h.home, crew, to_take_back(h.home, "trip", done(h.home, "trip")[1].id)))
        backups = h.home.path / "backups/kestrel-ridge"
        for name in ("a", "b"):
            backup(self.site, backups / f"{name}.tar.zst")
        restored = self.restore(backups / "a.tar.zst")
        other = recognise(self.h.staging_folder)  # of the same name, and another site
        backup(other, backups / "other.tar.zst")
        (backups / "damaged.tar.zst").write_bytes(b"no backup")
        old = [*backups.iterdir(), *(h.home.folder("trip") / "merges").iterdir(),
               *(h.home.path / "restores").iterdir()]
        self.assertEqual(age_out(h.home), [])
        for path in old:
            os.utime(path, (1, 1))
        os.utime(restored.safety, (2, 2))
        os.utime(h.home.folder("trip") / "merges" / done(h.home, "trip")[-1].id)
        (h.home.path / SETTINGS).write_text("[keep]\ndays = 0\n")
        self.assertEqual(age_out(h.home), [])
        (h.home.path / SETTINGS).write_text("[keep]\ndays = 30\n")
        first, second, third, undo = (d.id for d in done(h.home, "trip"))
        gone = {p.name for p in age_out(h.home)}
        # the newest backup stays, the last merge that can be taken back, and what a young undo took back
        self.assertEqual(gone, {"a.tar.zst", "b.tar.zst", first, restored.id})
        self.assertEqual([d.id for d in done(h.home, "trip")], [second, third, undo])
        self.assertTrue({s.what for s in space(h.home)} >= {"anchor", "journals", "backups"})
        (h.home.path / SETTINGS).write_text("[keep]\ndays = -1\n")
        with self.assertRaisesRegex(NostosError, "no number of days"):
            age_out(h.home)


