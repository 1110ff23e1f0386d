"""What a shell is told when it asks how a command goes on."""

import os
import subprocess
import sys

from nostos.demo.seed import make
from nostos.demo.story import LIVE_URL, STAGING_URL
from nostos.demo.system import Observatory
from tests.support import Program, SiteTest


class Completing(SiteTest):
    def ask(self, line: str, **more: str) -> set[str]:
        """What may come where a command line ends."""
        out = self.folder / "answer"
        with out.open("w") as file:
            subprocess.run(
                [sys.executable, "-c", "import os; os.dup2(1, 8); from nostos.cli.main import run; run()"],
                env={**os.environ, "_ARGCOMPLETE": "1", "_ARGCOMPLETE_IFS": "\n", "COMP_LINE": line,
                     "COMP_POINT": str(len(line)), "NOSTOS_HOME": str(self.folder / "home"),
                     "_ARGCOMPLETE_STDOUT_FILENAME": str(self.folder / "said"), **more},
                stdout=file, stderr=subprocess.DEVNULL, timeout=60, check=False)
        said = self.folder / "said"
        return {w.strip() for w in (said if said.exists() else out).read_text().splitlines() if w.strip()}

    def test_verbs_voyages_and_items(self) -> None:
        run_it = Program(self.folder)
        make(self.folder / "live", LIVE_URL)
        run_it("clone", "live", "autumn", "--into", "staging", "--url", STAGING_URL)
        site = Observatory(self.folder / "staging")
        site.edit(site.find("page", "visit")["id"], title="New")
        run_it("compare", "autumn")
        self.assertEqual(self.ask("nostos re"), {"refresh", "rehearse", "restore", "recover", "retire"})
        self.assertEqual(self.ask("nostos status a"), {"autumn"})
        self.assertEqual(self.ask("nostos merge autumn --take p"), {"page/\\*", "page/visit"})  # for the shell, escaped
        self.assertEqual(self.ask("nostos compare autumn pa"), {"page/visit"})
        shown = self.ask("nostos compare autumn pa", _ARGCOMPLETE_SHELL="zsh", _ARGCOMPLETE_SUPPRESS_SPACE="1")
        self.assertEqual(shown, {"page/visit:New"})  # with its title, where a shell shows one
        self.assertIn("--dry-run", self.ask("nostos merge autumn --d"))
        done = run_it("--completion", "bash")
        self.assertEqual(done.returncode, 0)
        self.assertIn("nostos", done.stdout)
        (self.folder / "code").write_text(done.stdout)
        self.assertEqual(subprocess.run(["bash", "-n", self.folder / "code"], check=False).returncode, 0)
