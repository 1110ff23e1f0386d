"""Sites on another machine: a real ssh server, another account, and the same laws."""

import json
import os
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Iterator, Sequence
from contextlib import closing
from pathlib import Path
from unittest import mock

from nostos.around.housekeeping import age_out
from nostos.around.rehearsal.rehearse import RehearsalOptions, rehearse
from nostos.around.rehearsal.serving import command_of
from nostos.core.apply.merge import merge
from nostos.core.backup.archive import ArchiveReader
from nostos.core.backup.outlook import inspect_backup
from nostos.core.backup.restore import restore
from nostos.core.backup.write import backup
from nostos.core.clone.clone import clone
from nostos.core.clone.remove import remove
from nostos.core.database.registry import locate
from nostos.core.errors import HostError, NostosError, SiteError
from nostos.core.files.entry import STAMP, FileEntry
from nostos.core.files.remote.tree import FarTree
from nostos.core.files.tree import GivenFile
from nostos.core.files.trees import tree_at
from nostos.core.hosts import connection
from nostos.core.hosts.connection import Fence
from nostos.core.hosts.far_path import written
from nostos.core.hosts.helper import free_port
from nostos.core.plan.selection import Choice
from nostos.core.sites.recognise import recognise
from nostos.core.takeback.recover import recover
from nostos.core.takeback.undo import prepare_undo, to_take_back
from nostos.core.voyages.home import Home
from nostos.demo.seed import make
from nostos.demo.story import Story
from tests.hosts.far import HOST, OTHER, Far, missing
from tests.support import STAGING_URL, Harbour, state

# A system small enough to be served by any machine's own Python.
SERVE = """import http.server, sqlite3, sys
class Page(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        found = sqlite3.connect("data/site.db").execute("SELECT title FROM content WHERE slug = ?",
                                                        (self.path.strip("/"),)).fetchone()
        self.send_response(200 if found or self.path == "/" else 404)
        self.send_header("Content-Type", "text/html")
        self.end_headers()
        self.wfile.write(("<title>Site</title><p>%s</p>" % (found and found[0])).encode())
    def log_message(self, *_):
        pass
http.server.HTTPServer((sys.argv[1], int(sys.argv[2])), Page).serve_forever()
"""


class FarHarbour(Harbour):
    """A voyage of a demo site. live, staging: the folders, and the hosts that they are on (empty: this machine)."""

    def __init__(self, home: Path, live: tuple[str, Path], staging: tuple[str, Path]) -> None:
        self.home = Home(home)
        self.hosts = live[0], staging[0]
        self.live_folder, self.staging_folder = live[1], staging[1]
        self.cloned = clone(self.home, self.address(self.live_folder), "trip", self.address(self.staging_folder),
                            STAGING_URL)

    def address(self, folder: Path) -> str:
        host = self.hosts[folder == self.staging_folder]
        return f"{host}:{folder}" if host else str(folder)


@unittest.skipIf(missing(), missing())
class Elsewhere(unittest.TestCase):
    far: Far

    @classmethod
    def setUpClass(cls) -> None:
        cls.far = Far()
        cls.enterClassContext(mock.patch.dict(os.environ, {"NOSTOS_SSH": cls.far.command}))
        cls.addClassCleanup(connection.close_all)

    def setUp(self) -> None:
        self.here = Path(tempfile.mkdtemp(prefix="nostos-test-"))
        self.there = self.far.place()
        for folder in (self.here, self.there):
            self.addCleanup(shutil.rmtree, folder, ignore_errors=True)

    def near(self) -> Harbour:
        (self.here / "near").mkdir()
        return Harbour(self.here / "near")

    def like(self, near: Harbour, live: str, staging: str) -> FarHarbour:
        """A voyage of the same site, on these hosts."""
        name = f"{live or 'here'}-{staging or 'here'}"
        homes = {True: self.there / name, False: self.here / name}
        for folder in homes.values():
            folder.mkdir()
        place = homes[bool(live)] / "live"
        shutil.copytree(near.live_folder, place)
        self.far.give(self.there)
        return FarHarbour(self.here / name / "home", (live, place), (staging, homes[bool(staging)] / "staging"))

    def worked_on(self, near: Harbour, *others: FarHarbour) -> None:
        """The story's work on both sides of all of them."""
        story = Story(near.folder)
        story.work_on_staging()
        story.life_on_live()
        for h in others:
            for source, target in ((near.live_folder, h.live_folder), (near.staging_folder, h.staging_folder)):
                for entry in target.iterdir():
                    if entry.name != STAMP:
                        shutil.rmtree(entry) if entry.is_dir() else entry.unlink()
                shutil.copytree(source, target, dirs_exist_ok=True, ignore=shutil.ignore_patterns(STAMP))
        self.far.give(self.there)

    @staticmethod
    def whole_way(h: Harbour, address: str) -> list[object]:
        """What live and staging are after a merge, an undo, a second merge, a refresh and a restore."""
        found: list[object] = [state(h.live_folder)]
        backup(recognise(address), h.home.path / "whole.tar.zst")
        h.merge()
        found.append(state(h.live_folder))
        with h.crew() as crew:
            merge(h.home, crew, prepare_undo(h.home, crew, to_take_back(h.home, "trip", None)))
        found.append(state(h.live_folder))
        h.merge()
        found.append(state(h.live_folder))
        h.refresh()
        rows, files = state(h.staging_folder)
        found.append((rows, {p: d for p, d in files.items() if p != STAMP}))
        restore(h.home, inspect_backup(h.home.path / "whole.tar.zst", recognise(address)))
        found.append(state(h.live_folder))
        return found

    def test_the_same_merge_leaves_the_same_live(self) -> None:
        near = self.near()
        others = [self.like(near, *hosts) for hosts in ((HOST, HOST), (HOST, ""), ("", HOST), (HOST, OTHER))]
        self.worked_on(near, *others)
        wanted = self.whole_way(near, str(near.live_folder))
        self.assertNotEqual(wanted[0], wanted[1])
        for h in others:
            with self.subTest(hosts=h.hosts):
                for step, found in enumerate(self.whole_way(h, h.address(h.live_folder))):
                    self.assertEqual(wanted[step], found, step)
                self.assertEqual([], remove(h.home, h.home.read("trip")))
                self.assertFalse(h.staging_folder.exists())
                self.assertEqual([], list(h.live_folder.rglob(".nostos*")))
        self.assertEqual({self.far.user}, {p.owner() for p in self.there.rglob("*")})

    def test_what_is_replaced_stays_there(self) -> None:
        """Neither a merge nor its undo carries it over the line; it is private, and ages out or is retired with the
        voyage. Where nothing can be made beside the site, it is kept here."""
        large = os.urandom(3_000_000)
        name = "uploads/large.bin"
        near = self.near()
        (near.live_folder / name).write_bytes(large)
        far = self.like(near, HOST, HOST)
        (far.staging_folder / name).write_bytes(b"small")
        self.far.give(self.there)
        beside = far.live_folder.parent / ".nostos-kept"
        before = connection.traffic().get(HOST, connection.Traffic(0, 0, 0))
        far.merge("*")
        self.assertEqual(b"small", (far.live_folder / name).read_bytes())
        self.assertEqual([large], [p.read_bytes() for p in beside.rglob("large.bin")])
        self.assertEqual({0o700}, {p.stat().st_mode & 0o777 for p in (beside, *beside.rglob("*")) if p.is_dir()})
        with far.crew() as crew:
            merge(far.home, crew, prepare_undo(far.home, crew, to_take_back(far.home, "trip", None)))
        self.assertEqual(large, (far.live_folder / name).read_bytes())
        after = connection.traffic()[HOST]
        self.assertLess(after.received + after.sent - before.received - before.sent, len(large) // 2)
        self.assertEqual([], list(far.home.path.rglob("large.bin")))

        later = time.time() + 400 * 86400
        connection.close_all()
        self.assertEqual([], age_out(far.home, later))  # not without a word to that machine
        connection.reach(HOST)
        self.assertEqual(2, len(age_out(far.home, later)))  # of the merge and of the undo
        self.assertFalse(beside.exists())
        far.merge("*")
        self.assertEqual([large], [p.read_bytes() for p in beside.rglob("large.bin")][-1:])
        (known,) = (p.name for p in beside.iterdir())  # and a helper that was cut off made one late, without a note
        (beside / f"{known.rpartition('-')[0]}-late").mkdir()
        self.assertEqual([], remove(far.home, far.home.read("trip")))
        self.assertFalse(beside.exists())

        other = self.like(near, HOST, OTHER)
        (other.staging_folder / name).write_bytes(b"small")
        subprocess.run(["chown", "root:", str(other.live_folder.parent)], check=True)
        other.merge("*")
        self.assertEqual([large], [p.read_bytes() for p in other.home.path.rglob("large.bin")])
        with other.crew() as crew:
            merge(other.home, crew, prepare_undo(other.home, crew, to_take_back(other.home, "trip", None)))
        self.assertEqual(large, (other.live_folder / name).read_bytes())

    def standing_in(self, before: str) -> mock._patch_dict:
        """This machine, under this account, in the place of another. before: what its shell does first."""
        way = self.here / "way"
        way.write_text(f'#!/bin/sh\n{before}\nexec /bin/sh -c "$2"\n')
        way.chmod(0o755)
        connection.close_all()
        self.addCleanup(connection.close_all)
        return mock.patch.dict(os.environ, {"NOSTOS_SSH": str(way)})

    @unittest.skipIf(shutil.which("pypy3") is None, "pypy3 is not installed")
    def test_a_backup_takes_few_trips_and_whole_files(self) -> None:
        """However many files there are; one that is written while they come is read again."""
        make(self.there / "site", "http://127.0.0.1:8431")
        pictures = self.there / "site/uploads/many"
        pictures.mkdir()
        for n in range(400):
            (pictures / f"{n:03}.txt").write_text(f"picture {n}")
        (pictures / "large.bin").write_bytes(os.urandom(3 << 20))
        self.far.give(self.there)
        site = recognise(f"{HOST}:{self.there}/site")
        real, late = FarTree.given_out, pictures / "200.txt"

        def meanwhile(tree: FarTree, entries: Sequence[FileEntry]) -> Iterator[GivenFile]:
            for given in real(tree, entries):
                yield given
                if given.entry.path.endswith("200.txt"):
                    late.write_text("another picture")

        before = connection.traffic()[HOST].trips
        file = self.here / "whole.tar.zst"
        with mock.patch.object(FarTree, "given_out", meanwhile):
            backup(site, file)
        self.assertLessEqual(connection.traffic()[HOST].trips - before, 60)
        held, reader = {}, ArchiveReader(file)
        self.addCleanup(reader.close)
        for member, body in reader.walk():
            if member.kind == "file":
                held[member.name] = body.read_all(member.size)
        files = {f"files/{f.relative_to(self.there / 'site')}": f.read_bytes() for f in pictures.iterdir()}
        self.assertEqual({name: held.get(name) for name in files}, files)

    def test_the_oldest_python_that_is_to_be_had(self) -> None:
        (self.here / "bin").mkdir()
        (self.here / "bin" / "python3").symlink_to(str(shutil.which("pypy3")))
        with self.standing_in(f"PATH={self.here}/bin:$PATH"):
            self.assertLess(connection.reach("old").about.python, (3, 11))
            near = self.near()
            old = self.like(near, "old", "old")
            self.worked_on(near, old)
            subprocess.run(["chown", "-R", f"{os.getuid()}:{os.getgid()}", str(self.there)], check=True)
            wanted = self.whole_way(near, str(near.live_folder))
            for step, found in enumerate(self.whole_way(old, old.address(old.live_folder))):
                self.assertEqual(wanted[step], found, step)

    def test_no_room_and_no_rights_there(self) -> None:
        near = self.near()
        with self.standing_in("ulimit -f 6000"):  # 3 MB, in blocks of 512 bytes
            small = self.like(near, "small", "small")
            (small.staging_folder / "uploads" / "large.bin").write_bytes(os.urandom(1 << 22))
            before = state(small.live_folder)
            with self.assertRaises((NostosError, OSError)):
                small.merge("file/uploads/*")
            self.assertEqual((before, []), (state(small.live_folder), list(small.live_folder.rglob(".nostos*"))))
        connection.close_all()
        far = self.like(near, HOST, HOST)
        (far.staging_folder / "themes/dusk/style.css").write_text("/* new */\n")
        subprocess.run(["chown", "-R", "root:", str(far.live_folder)], check=True)
        before = state(far.live_folder)
        with self.assertRaises((NostosError, OSError)):
            far.merge("theme/*")
        self.assertEqual(before, state(far.live_folder))
        self.assertEqual([], recover(far.home))

    def test_what_cannot_be_written_there_holds_nothing_up(self) -> None:
        tree, large = tree_at(written(f"{HOST}:{self.there}")), bytes(3_000_000)
        tree.write("there", b"old", 0o600)
        with self.assertRaises(FileExistsError):
            tree.write("there", large, 0o600)
        source = self.here / "source"
        source.mkdir()
        for name in ("a", "there", "z"):
            (source / name).write_bytes(large)
        found = list(tree.copy_all(tree_at(source), list(tree_at(source).scan((), ())), 10))
        self.assertEqual([(f.entry.path, type(f.error)) for f in found],
                         [("a", type(None)), ("there", FileExistsError), ("z", type(None))])
        self.assertEqual((tree.read("there"), tree.read("z")), (b"old", large))

    def test_a_rehearsal_there(self) -> None:
        """The copy is made, served and removed there, and visited from here."""
        port = free_port()
        command = ["python3", "-c", SERVE, "{host}", "{port}"]
        near = Harbour(self.here, make(self.here / "made", f"http://127.0.0.1:{port}").folder)
        (near.live_folder / "nostos.toml").write_text(f"[serve]\ncommand = {json.dumps(command)}\n")
        h = self.like(near, HOST, HOST)
        at_home = subprocess.Popen([*command[:3], "127.0.0.1", str(port)], cwd=h.live_folder)
        self.addCleanup(at_home.wait)
        self.addCleanup(at_home.kill)
        h.staging.edit(h.staging.find("page", "visit")["id"], title="How to reach us")
        self.far.give(self.there)
        before = state(h.live_folder)
        with h.crew() as crew:
            _, found = rehearse(h.home, crew, Choice(), RehearsalOptions(command_of(crew.live), 20, 200))
        assert found is not None
        verdicts = {p.path: str(p.verdict) for p in found.pages}
        self.assertEqual((verdicts["/visit"], found.holds, found.visited), ("expected", True, True))
        self.assertNotIn("broke", verdicts.values())
        self.assertEqual(state(h.live_folder), before)
        self.assertEqual([p.name for p in h.live_folder.parent.iterdir() if p.name.startswith(".nostos")], [])
        connection.close_all()
        left = subprocess.run(["pgrep", "-fc", "serve_forever"], capture_output=True, text=True).stdout
        self.assertEqual(left.strip(), "1")  # live's own

    def test_a_file_there_gets_nothing_of_this_machine(self) -> None:
        """Neither its secrets nor its keys: variables are those of its own machine, and no third one is reached."""
        there = self.there / "live"
        make(there, "http://ridge.example")

        def says(line: str) -> None:
            (there / "nostos.toml").write_text(
                f"[site]\nname = 'ridge'\nurl = 'http://ridge.example'\nprofile = 'observatory'\n{line}\n")
            self.far.give(self.there)

        def read() -> str:
            return recognise(written(f"{HOST}:{there}/nostos.toml")).database.shown

        says("database = 'sqlite:///data/${RIDGE_SECRET}.db'")
        with mock.patch.dict(os.environ, {"RIDGE_SECRET": "site"}):
            with self.assertRaises(SiteError) as caught:
                read()
            self.assertIn("RIDGE_SECRET, which is not set on far.example", str(caught.exception.what))
            self.assertIn("NOSTOS_LENDS=RIDGE_SECRET", str(caught.exception.next_step))
            with mock.patch.dict(os.environ, {"NOSTOS_LENDS": "OTHER, RIDGE_SECRET"}):
                self.assertIn("site.db", read())
        says("database = 'sqlite:///data/site.db'")
        self.assertIn("site.db", read())
        for line in (f"database = '{OTHER}:/srv/private.db'", f"files = '{OTHER}:/srv/private'\ndatabase = "
                                                             "'sqlite:///data/site.db'"):
            says(line)
            with self.assertRaises(SiteError) as caught:
                read()
            self.assertIn("leads to a third machine, other.example", caught.exception.what)

    def test_the_helper_there_keeps_to_what_was_named(self) -> None:
        """Of a voyage's sites, and of nothing else: whatever it is asked, and wherever links lead by then."""
        site, other = self.there / "site", self.there / "other"
        for folder in (site / "data", other):
            folder.mkdir(parents=True)
        (other / "secret.txt").write_text("secret")
        (site / "page.html").write_text("hello")
        for file in (site / "data/site.db", other / "other.db"):
            with closing(sqlite3.connect(file)) as made:
                made.execute("CREATE TABLE x (a)")
        (site / "way").symlink_to(other)
        self.far.give(self.there)
        connection.close_all()
        there = connection.reach(HOST)
        there.put_up(Fence(frozenset({str(site)}), programs=frozenset({"true"})))
        self.addCleanup(connection.close_all)
        root = str(site)
        self.assertEqual(there.ask("tree", [root, []], "content", "page.html", 99), b"hello")
        self.assertEqual(there.ask("content", f"{root}/page.html", 99), b"hello")
        self.assertTrue(there.ask("tree", [str(self.there), []], "make_folder", ".nostos-kept", 0o700, None))
        self.assertEqual(there.ask("run", root, ["true"], b"", 5.0, [], False)[0], 0)
        self.assertIsNotNone(there.ask("look", "/tmp"))  # on the way to it
        database = written(f"{HOST}:{root}/data/site.db")
        with closing(locate(f"sqlite:///{database.path}", written(f"{HOST}:{root}")).open()) as own:
            with self.assertRaises(sqlite3.DatabaseError):
                own._run(f"ATTACH DATABASE '{other}/other.db' AS o")
            own._run("ATTACH DATABASE ':memory:' AS o")
        for words in (("tree", str(other), [], "content", "secret.txt", 99), ("content", f"{other}/secret.txt", 99),
                      ("tree", root, [["way", str(other)]], "content", "way/secret.txt", 99),
                      ("tree", str(self.there), [], "content", "other/secret.txt", 99), ("look", f"{other}/secret.txt"),
                      ("tree", f"{root}/way", [], "names", ""), ("content", f"{root}/way/secret.txt", 99),
                      ("run", root, ["cat", f"{other}/secret.txt"], b"", 5.0, [], False),
                      ("run", str(other), ["true"], b"", 5.0, [], False), ("connect", "127.0.0.1", 22, ""),
                      ("copy", root, [], str(other), [], "secret.txt", "here", 0o600, None),
                      ("sqlite", f"{other}/other.db", "ro", 1.0), ("fence", ["/"], [], [], [], [])):
            with self.subTest(words), self.assertRaises(HostError), there.talk(*words) as channel:
                channel.receive()  # what is let through sends something, or ends
        shutil.move(site, self.there / "away")
        site.symlink_to(other)
        with self.assertRaises(HostError):
            there.ask("tree", [root, []], "content", "secret.txt", 99)
        for words in (("lock", str(other), 1.0), ("look", f"{other}/secret.txt")):
            with self.subTest(words), self.assertRaises(HostError), there.talk(*words) as channel:
                channel.receive()

    def test_what_is_wrong_is_said(self) -> None:
        """Each its own message, and what to do."""
        ssh = self.here / "way"
        python = self.here / "bin" / "python3"
        python.parent.mkdir()
        (python.parent / "sh").symlink_to("/bin/sh")
        config = (self.far.folder / "config").read_text()
        cases = {
            "There is no Python 3 on": f'#!/bin/sh\nPATH={python.parent} exec /bin/sh -c "$2"\n',
            "Python on far.example is too old": f'#!/bin/sh\nPATH={python.parent}:/none exec /bin/sh -c "$2"\n',
            "This account is not available": "#!/bin/sh\necho This account is not available.; exit 1\n",
            "cannot be started": "",
            "not the one that is known of it": config.replace("known\n", "changed\n"),
            "not known, or was not accepted": config.replace("known\n", "empty\n"),
            "it does not let this user in": config.replace("/user\n", "/other\n"),
            "nothing answers for ssh there": config.replace(f"Port {self.far.port}", "Port 1"),
            "there is no host of that name": config.replace("127.0.0.1", "nowhere.invalid"),
        }
        other = (self.far.folder / "user.pub").read_text().split()[1]
        (self.far.folder / "changed").write_text(f"[127.0.0.1]:{self.far.port} ssh-ed25519 {other}\n")
        for message, text in cases.items():
            with self.subTest(message):
                connection.close_all()
                ssh.write_text(text)
                ssh.chmod(0o755)
                command = f"ssh -F {ssh}" if text.startswith("Host") else str(ssh) if text else "/nonexistent"
                python.unlink(missing_ok=True)
                if "too old" in message:
                    python.write_text(f"#!/bin/sh\nexec {sys.executable} -c \"import sys; sys.version_info = (3, 5); "
                                      "exec(sys.argv[1])\" \"$2\"\n")
                    python.chmod(0o755)
                with mock.patch.dict(os.environ, {"NOSTOS_SSH": command}), self.assertRaises(HostError) as caught:
                    recognise(f"{HOST}:/srv/site")
                self.assertIn(message, caught.exception.what)
                self.assertTrue(caught.exception.next_step)
        connection.close_all()
        with self.assertRaisesRegex(SiteError, "There is no site at far.example:/srv/nowhere"):
            recognise(f"{HOST}:/srv/nowhere")
