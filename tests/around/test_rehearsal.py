"""Rehearsals: the merge itself, on a copy that visitors never see; live is only read, and nothing is left behind."""

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

from nostos.around.trial.compare import Judged, Verdict, alike_everywhere
from tests.faults import walk
from tests.support import ServedTest, state


class Rehearsing(ServedTest):
    def command(self, *words: str) -> list[str]:
        return [sys.executable, "-m", "nostos", "--home", str(self.h.home.path), *words]

    def nostos(self, *words: str) -> tuple[int, str, str]:
        done = subprocess.run(self.command(*words), capture_output=True, text=True, check=False)
        return done.returncode, done.stdout, done.stderr

    def rehearsed(self, *words: str) -> tuple[int, dict[str, Any]]:
        status, out, err = self.nostos("--json", "rehearse", "trip", "--rate", "200", *words)
        self.assertIn(status, (0, 1), err)
        return status, json.loads(out)["rehearsal"]

    def nothing_left(self) -> None:
        self.assertEqual(sorted(p.name for p in self.folder.iterdir()), ["home", "live", "staging"])
        self.assertEqual([p.name for p in (self.h.home.path / "rehearsals").glob("*/")], [])

    def test_what_was_meant_is_told_from_what_was_not_and_the_merge_does_the_same(self) -> None:
        staging, live = self.h.staging, self.h.live
        staging.edit(staging.find("page", "visit")["id"], title="How to reach us")
        staging.add("page", "new", "New")
        staging.remove(staging.find("page", "winter-closing")["id"])
        live.comment(live.find("note", "a-still-night")["id"], "A Visitor", "Nice")
        before = state(self.h.live_folder)
        status, found = self.rehearsed("--take", "page/*")
        self.assertEqual((status, state(self.h.live_folder)), (0, before))
        self.nothing_left()
        said = {p["path"]: p["verdict"] for p in found["pages"]}
        self.assertEqual({p: said[p] for p in ("/visit", "/new", "/winter-closing", "/a-still-night")}, {
            "/visit": "expected", "/new": "new", "/winter-closing": "expected", "/a-still-night": "same"})
        self.assertTrue(found["holds"])
        live.comment(live.find("note", "a-still-night")["id"], "Another", "Indeed")  # that is no reason
        status, _, err = self.nostos("merge", "trip", "--as-rehearsed", found["id"], "--yes")
        self.assertEqual(status, 0, err)
        self.assertEqual(self.h.homeward(), [])
        self.assertEqual(self.nostos("merge", "trip", "--as-rehearsed", "nothing", "--yes")[0], 3)

    def test_what_a_setting_of_the_whole_site_changes_everywhere_is_meant(self) -> None:
        self.h.staging.set("tagline", "Open until midnight")
        self.h.staging.set("title", "Kestrel Hill")
        _, found = self.rehearsed("--take", "setting/*")
        self.assertEqual({"expected"}, {p["verdict"] for p in found["pages"]})
        self.assertTrue(all("changed as most pages do" in p["why"][0] for p in found["pages"]))
        first, other, third, apart = (Judged(f"/{n}", Verdict.CHANGED, ("title",)) for n in range(4))
        changed = {"/0": frozenset("a"), "/1": frozenset("a"), "/2": frozenset("a"), "/3": frozenset("ab")}
        self.assertEqual(["expected"] * 3 + ["changed"], [
            str(p.verdict) for p in alike_everywhere([first, other, third, apart], changed)])

    def test_another_merge_than_the_rehearsed_one_is_refused(self) -> None:
        staging = self.h.staging
        staging.edit(staging.find("page", "visit")["id"], title="How to reach us")
        _, found = self.rehearsed("--no-visit")
        staging.edit(staging.find("page", "programme")["id"], title="What is on")
        status, _, err = self.nostos("merge", "trip", "--as-rehearsed", found["id"], "--yes")
        self.assertEqual(status, 3)
        self.assertIn("not what was rehearsed", err)
        words = ("merge", "trip", "--take", "page/visit", "--as-rehearsed", found["id"], "--yes")
        self.assertEqual(self.nostos(*words)[0], 0)

    def test_what_breaks_is_told(self) -> None:
        theme = self.h.staging_folder / "themes" / str(self.h.staging.setting("theme")) / "layout.html"
        theme.write_text(theme.read_text().replace("</body>", "<p>Fatal error: none on line 7</p></body>"))
        before = state(self.h.live_folder)
        status, out, _ = self.nostos("rehearse", "trip", "--most", "4", "--rate", "200")
        self.assertEqual((status, state(self.h.live_folder)), (1, before))
        self.assertIn("Broke: 4 pages", out)
        self.assertIn("prints an error: Fatal error", " ".join(out.split()))

    def test_a_command_that_does_not_serve(self) -> None:
        self.h.staging.add("page", "new", "New")
        site_file = self.h.live_folder / "nostos.toml"
        for command, why in (('["false"]', "ended with status 1"), ('["/nowhere/at-all"]', "could not be run"),
                             ('["sh", "-c", "echo taken >&2; exit 3"]', "ended with status 3: taken")):
            site_file.write_text(f"[serve]\ncommand = {command}\n")
            site_file.chmod(0o600)
            status, _, err = self.nostos("rehearse", "trip")
            self.assertEqual(status, 3, err)
            self.assertIn(why, " ".join(err.split()))
            self.assertNotIn('"php"', err)  # what is advised is of the site's own kind
            self.nothing_left()
        own = self.h.live_folder / ".venv" / "bin" / "python"  # such a link does not come along into a copy
        own.parent.mkdir(parents=True)
        own.symlink_to(sys.executable)
        site_file.write_text('[serve]\ncommand = ["{python3}", "-c", "import sys; sys.exit(sys.executable)"]\n')
        self.assertIn(str(own), self.nostos("rehearse", "trip")[2].replace("\n        ", ""))
        shutil.rmtree(own.parent.parent)
        site_file.chmod(0o666)
        self.assertIn("others may write", self.nostos("rehearse", "trip")[2])
        self.assertEqual(self.nostos("rehearse", "trip", "--no-commands")[0], 0)
        site_file.write_text("[serve]\ncommand = 'php'\n")
        self.assertIn("[serve] names no command", self.nostos("rehearse", "trip")[2])

    def test_a_rehearsal_that_is_killed_leaves_nothing_once_recovered(self) -> None:
        self.h.staging.add("page", "new", "New")
        before = state(self.h.live_folder)
        for pause in (0.7, 1.2, 2.5):
            with subprocess.Popen(self.command("rehearse", "trip", "--rate", "2"), stdout=subprocess.DEVNULL,
                                  stderr=subprocess.DEVNULL) as running:
                time.sleep(pause)
                running.send_signal(signal.SIGKILL)
            self.assertEqual(state(self.h.live_folder), before)
            self.assertEqual(self.nostos("recover")[0], 0)
            self.nothing_left()
            self.assertEqual([p for p in Path("/proc").glob("[0-9]*") if self.runs_here(p)], [])

    def test_broken_anywhere_live_is_as_it_was(self) -> None:
        """Here at some points at which a rehearsal changes something; `make faults` walks every one."""
        for fault, step in (("killed", 31), ("disk full", 97), ("no rights", 97)):
            self.assertGreater(walk("rehearse", step, fault=fault), 3, fault)

    def runs_here(self, process: Path) -> bool:
        try:
            return f"{self.folder}/.nostos-rehearsal" in os.readlink(process / "cwd")
        except OSError:
            return False
