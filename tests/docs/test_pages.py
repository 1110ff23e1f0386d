"""The commands in the documentation are run, and must print what the page says."""

import re
import shlex
from collections.abc import Iterator
from pathlib import Path

from nostos.core.voyages.home import Home
from nostos.demo.story import Story
from tests.support import Program, SiteTest

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
