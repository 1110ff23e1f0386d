"""The commands in the documentation are run, and must print what the page says."""

import os
import re
import shlex
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path
from unittest import mock, skipIf

from nostos.core.voyages.home import Home
from nostos.demo.story import Story
from tests.hosts.far import HOST, Far, missing
from tests.support import Program, SiteTest, tree

DOCS = Path(__file__).parents[2] / "docs"


def commands(page: Path) -> Iterator[tuple[str, list[str]]]:
    """Each command of a page's console blocks, with the lines that it is said to print."""
    for block in re.findall(r"```console\n(.*?)```", page.read_text(), re.DOTALL):
        for part in re.split(r"^\$ ", block, flags=re.MULTILINE)[1:]:
            command, *lines = part.splitlines()
            yield command, [line for line in lines if line.strip()]


def flat(text: str) -> str:
    return " ".join(text.split())


class Pages(SiteTest):
    def test_merging(self) -> None:
        story = Story(self.folder)
        story.begin()
        run = Program(self.folder)
        run("clone", "live", "autumn", "--into", "staging", "--url", story.staging_url)
        story.work_on_staging()
        story.life_on_live()
        found = list(commands(DOCS / "merging.md"))
        self.assertGreater(len(found), 9)
        for command, lines in found:
            done = run(*shlex.split(command)[1:])
            said = flat(done.stdout + done.stderr)
            for line in lines:
                self.assertIn(flat(line), said, command)
        self.assertEqual(story.live.find("page", "visit")["title"], "How to reach the hill")
        self.assertEqual(Home(self.folder / "home").names(), ["autumn"])

    def printed(self, page: str, said: Callable[[str], str] = str) -> int:
        """Run a page's commands, changed by `said`; each must print what the page says. Returns how many there were."""
        run, found = Program(self.folder), list(commands(DOCS / page))
        for command, lines in found:
            done = run(*shlex.split(said(command))[1:])
            text = flat(done.stdout + done.stderr)
            for line in lines:
                self.assertIn(flat(said(line)), text, command)
        return len(found)

    def test_shared_hosting(self) -> None:
        Story(self.folder).begin()
        (self.folder / "panel").mkdir()
        (self.folder / "panel" / "index.html").write_text("Soon.")
        before = tree(self.folder / "live")
        self.assertEqual(self.printed("shared-hosting.md"), 7)
        self.assertEqual((self.folder / "panel" / "index.html").read_text(), "Soon.")
        self.assertEqual(before, tree(self.folder / "live"))

    @skipIf(missing(), missing())
    def test_another_machine(self) -> None:
        far = Far()
        there = far.place()
        self.addCleanup(shutil.rmtree, there)
        Story(there).begin()
        far.give(there)
        before = tree(there / "live")
        with mock.patch.dict(os.environ, {"NOSTOS_SSH": far.command}):
            self.assertEqual(self.printed("another-machine.md", lambda text: text.replace(
                "web@ridge-host", f"{far.user}@{HOST}").replace("/srv/www", str(there))), 8)
        self.assertEqual(before, tree(there / "live"))
        self.assertEqual(os.listdir(there), ["live"])
