"""Choosing, as a user does it: selections as files and in a list, and refresh."""

import fcntl
import json
import os
import pty
import struct
import sys
import termios
import time
import tomllib

from nostos.cli.picking import Picker
from nostos.core.anchor.names import Side
from nostos.core.plan.prepared import compare_voyage
from tests.support import Harbour, Program, SiteTest, rows


class Choosing(SiteTest):
    def setUp(self) -> None:
        super().setUp()
        self.h = self.lived_in()
        self.run_ = Program(self.folder)
        self.file = self.folder / "sel.toml"

    def test_a_selection_goes_from_file_to_live(self) -> None:
        done = self.run_("select", "--take", "page/*", "--prefer", "live", "page/visit:title", "--save", "sel.toml")
        self.assertEqual((done.returncode, done.stderr), (1, ""))
        self.assertIn("Decided for live; staging's change counts as seen: 1", done.stdout)
        self.assertIn("Next: nostos merge trip --selection sel.toml", done.stdout)
        self.assertEqual(self.file.stat().st_mode & 0o777, 0o600)
        data = tomllib.loads(self.file.read_text())
        self.assertEqual(data["decide"], {"page/visit": {"title": "live"}})
        self.assertIn("picture/autumn-sky", data["selection"]["take"])
        told = json.loads(self.run_("merge", "--selection", "sel.toml", "--dry-run", "--json").stdout)
        self.assertEqual(told["decided_for_live"], ["page/visit"])
        done = self.run_("merge", "--selection", "sel.toml", "--yes")
        self.assertEqual(done.returncode, 1)  # a removed note is still a clash
        self.assertEqual(self.h.live.find("page", "visit")["title"], "How to find us in the dark")
        self.assertNotIn("page/visit", [i for i, s in self.h.standings().items() if s == "clash"])

    def test_what_is_refused(self) -> None:
        for args, says in ((("select", "--prefer", "mine", "page/visit"), "takes live or staging, not mine"),
                           (("select", "--prefer", "live", "page/visot"), "Nearest names: page/visit"),
                           (("select", "--prefer", "live", "page/visit:body"), "These do: title"),
                           (("select", "--prefer", "staging", "note/a-still-night"), "live has built on it since"),
                           (("merge", "--selection", "none.toml"), "There is no selection"),
                           (("merge", "--selection", "none.toml", "--take", "*"), "cannot be given beside it"),
                           (("refresh", "--afresh", "--take", "*"), "nothing can be chosen beside it"),
                           (("refresh", "--afresh"), "The name does not match"),
                           (("refresh",), "You did not say yes"),
                           (("select", "--interactive"), "needs a terminal")):
            done = self.run_(*args)
            self.assertEqual(done.returncode, 3, args)
            self.assertIn(says, done.stderr)
            self.assertIn("Nothing was changed.", done.stderr)

    def test_refresh(self) -> None:
        done = self.run_("refresh", "--take", "order/*", "--yes")
        self.assertIn("Will go into voyage trip: 9", done.stdout)
        self.assertEqual(rows(self.h.staging.database, "SELECT count(*) FROM content WHERE kind='order'"), [(13,)])
        self.assertIn("Live has nothing new for staging", self.run_("refresh", "--take", "order/*").stdout)
        done = self.run_("refresh", "--afresh", answer="trip\n")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(self.h.standings(), {})
        verbs = [e["verb"] for e in json.loads(self.run_("history", "--json").stdout)]
        self.assertEqual(verbs, ["refresh", "refresh afresh"])

    def test_undo_and_recover(self) -> None:
        self.assertIn("Nothing has been merged yet", self.run_("undo", "--list").stdout)
        self.assertIn("There is nothing to recover", self.run_("recover").stdout)
        self.run_("merge", "--yes")
        self.h.live.comment(self.h.live.find("page", "autumn-programme")["id"], "A Visitor", "Lovely.")
        done = self.run_("undo", answer="no\n")
        self.assertEqual(done.returncode, 3)
        self.assertIn("live has built on it since: comment/", done.stdout)
        done = self.run_("undo", "--yes")
        self.assertEqual(done.returncode, 1, done.stderr)
        self.assertIn("is taken back", done.stdout)
        self.assertEqual(self.h.live.setting("theme"), "meadow")
        self.assertEqual(self.h.live.find("page", "autumn-programme")["title"], "Autumn evenings")
        listed = json.loads(self.run_("undo", "--list", "--json").stdout)
        self.assertEqual([d["verb"] for d in listed], ["merge", "undo"])
        # a journal that does not come to its end
        journal = self.h.home.folder("trip") / "merges" / listed[1]["id"] / "journal.jsonl"
        journal.write_text("".join(line for line in journal.read_text().splitlines(keepends=True)
                                   if "settled" not in line) + '{"step":"settl')  # and whose last line was cut
        for verb in ("compare", "merge", "refresh", "undo"):
            done = self.run_(verb)
            self.assertEqual(done.returncode, 4, verb)
            self.assertIn("nostos recover trip", done.stderr)
        self.assertEqual(self.run_("retire", "--yes").returncode, 4)
        self.assertIn("is finished now", self.run_("recover").stdout)
        self.assertEqual(self.run_("compare").returncode, 1)

    def test_the_list_without_a_screen(self) -> None:
        with self.h.crew() as crew:
            comparison, needs = compare_voyage(crew)
        picker = Picker(comparison.items, needs, set(), {"page/visit"})
        names = [line.id for line in picker.lines if not isinstance(line, str)]
        self.assertIn("note/a-still-night", names)
        self.assertNotIn("member/alva", names)
        while picker.current is None or picker.current.id != "menu/main":
            picker.move(1)
        picker.toggle()
        self.assertEqual(picker.pulled()["page/autumn-programme"], "menu/main")
        picker.decide(Side.LIVE)  # it does not clash, so nothing happens
        while picker.current is None or picker.current.id != "note/a-still-night":
            picker.move(1)
        picker.decide(Side.STAGING)  # nor can this be decided
        self.assertEqual(picker.decided, {})
        while picker.current is None or picker.current.id != "page/visit":
            picker.move(1)
        picker.decide(Side.STAGING)
        item = picker.current
        assert item is not None
        self.assertEqual(picker.word(item, {}), "staging")
        picker.toggle_kind()
        choice = picker.choice()
        self.assertLessEqual({"menu/main", "page/winter-closing"}, set(choice.take))
        self.assertEqual([(d.item, str(d.side)) for d in choice.prefer], [("page/visit", "staging")])
        picker.toggle_kind()
        picker.decide(None)
        self.assertEqual(picker.choice().take, ("menu/main",))
        picker.move(-1000)
        self.assertIsNotNone(picker.current)

    def test_the_list_in_a_terminal(self) -> None:
        screen, status = in_terminal(self.h, ["select", "--take", "setting/theme", "--interactive", "--save",
                                              str(self.file)], [b"j", b"\r", b"x", b"\x1bOB", b"\x1b[Z", b"a", b"d"])
        self.assertEqual(status, 1, screen[-500:])
        self.assertIn("1 taken, 0 needed, 2 clashes undecided", screen)
        self.assertIn("any other key to go back", screen)  # what Enter showed
        taken = tomllib.loads(self.file.read_text())["selection"]["take"]
        self.assertLessEqual({"setting/theme", "ext_star_chart_marks/1", "table/ext_star_chart_marks"}, set(taken))
        self.file.unlink()
        screen, status = in_terminal(self.h, ["select", "--interactive", "--save", str(self.file)], [b"q"])
        self.assertEqual((status, self.file.exists()), (3, False))


def in_terminal(h: Harbour, args: list[str], keys: list[bytes]) -> tuple[str, int]:
    """Run the program in a terminal of 100 by 30, press keys. Returns all that it wrote, and how it ended."""
    pid, fd = pty.fork()
    if pid == 0:
        os.chdir(h.folder)
        os.environ.update(NOSTOS_HOME=str(h.folder / "home"), TERM="xterm", LINES="30", COLUMNS="100")
        os.execv(sys.executable, [sys.executable, "-m", "nostos", *args])
    fcntl.ioctl(fd, termios.TIOCSWINSZ, struct.pack("HHHH", 30, 100, 0, 0))
    os.set_blocking(fd, False)
    said = b""
    deadline = time.monotonic() + 60
    waiting = list(keys)
    quiet = time.monotonic()
    while time.monotonic() < deadline:
        try:
            chunk = os.read(fd, 65536)
            if not chunk:
                break
            said, quiet = said + chunk, time.monotonic()
        except BlockingIOError:
            # Each key once the screen has come to rest.
            if waiting and b"taken" in said and time.monotonic() - quiet > 0.15:
                os.write(fd, waiting.pop(0))
                quiet = time.monotonic()
            time.sleep(0.02)
        except OSError:  # the program has gone
            break
    _, status = os.waitpid(pid, 0)
    os.close(fd)
    return said.decode("utf-8", "replace"), os.waitstatus_to_exitcode(status)


