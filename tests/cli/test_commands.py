"""Commands that a site file names around an operation: only from a file of the user's own, and never by a shell."""

import json
import shutil

from nostos.core.errors import MergeRefused
from nostos.core.sites.commands import run_commands
from nostos.core.sites.recognise import recognise
from tests.support import LIVE_URL, STAGING_URL, Program, SiteTest, template

SITE = f'''[site]
name = "kestrel-ridge"
url = "{LIVE_URL}"
database = "sqlite:///data/site.db"
profile = "observatory"

[before]
merge = [["sh", "-c", "test ! -e {{folder}}/stop && echo \\"$NOSTOS_STEP of $NOSTOS_SITE\\" >> {{folder}}/said"]]

[after]
clone = [["sh", "-c", "pwd >> {{folder}}/said"]]
merge = [["touch", "$(touch {{folder}}/shell); x"], ["sh", "-c", "echo broken >&2; exit 3"], ["sleep", "60"]]
undo = [["sh", "-c", "echo undone >> {{folder}}/said"]]
seconds = 0.5
'''


class Commands(SiteTest):
    def setUp(self) -> None:
        super().setUp()
        self.nostos = Program(self.folder)
        shutil.copytree(template(), self.folder / "live")
        self.file = self.folder / "live" / "nostos.toml"
        self.file.write_text(SITE.replace("{folder}", str(self.folder)))
        self.file.chmod(0o644)

    def said(self) -> str:
        place = self.folder / "said"
        return place.read_text() if place.exists() else ""

    def run_it(self, *args: str, status: int = 0) -> str:
        done = self.nostos(*args)
        self.assertEqual(done.returncode, status, done.stdout + done.stderr)
        return done.stdout + done.stderr

    def test_around_a_voyage(self) -> None:
        self.run_it("clone", "live", "trip", "--into", "staging", "--url", STAGING_URL)
        self.assertEqual(self.said(), f"{self.folder}/staging\n")
        page = self.folder / "staging" / "themes" / "dusk" / "style.css"
        page.write_text("/* new */\n")
        shown = self.run_it("merge", "--take", "theme/*", "--dry-run")
        self.assertIn("Would be run before: sh -c", shown)
        self.assertEqual(self.said().count("\n"), 1)

        (self.folder / "stop").touch()
        refused = self.run_it("merge", "--take", "theme/*", "--yes", status=3)
        self.assertIn("A command before it failed: sh -c", refused)
        self.assertNotIn("new", (self.folder / "live/themes/dusk/style.css").read_text())
        (self.folder / "stop").unlink()

        done = self.run_it("merge", "--take", "theme/*", "--yes", status=1)
        self.assertIn("(exit status 3: broken)", done)
        self.assertIn("sleep 60 (it did not end within", done)
        self.assertFalse((self.folder / "shell").exists())
        self.assertIn("before merge of kestrel-ridge", self.said())
        self.assertIn("new", (self.folder / "live/themes/dusk/style.css").read_text())
        kept = json.loads(self.run_it("history", "--json"))[-1]["commands"]
        self.assertEqual([c["status"] for c in kept], [0, 1, 3, None])
        self.assertEqual({*kept[0]}, {"when", "arguments", "status", "why", "seconds", "said"})  # as in older ones
        self.assertIn("exit status 3", self.run_it("history"))
        self.run_it("undo", "--yes", "--no-commands")
        self.assertNotIn("undone", self.said())

    def test_only_from_a_file_of_ones_own(self) -> None:
        self.file.chmod(0o666)
        refused = self.run_it("clone", "live", "trip", "--into", "staging", "--url", STAGING_URL, status=1)
        self.assertIn("others may write to", refused)
        self.assertEqual(self.said(), "")
        self.file.chmod(0o644)
        (self.folder / "live").chmod(0o777)  # whoever may rename there puts another file in its place
        found = recognise(str(self.folder / "live")).commands
        (self.folder / "live").chmod(0o755)
        assert found is not None
        with self.assertRaisesRegex(MergeRefused, "others may put another file into"):
            list(run_commands(found, "after", "merge", self.folder, "x"))  # as it was when it was read
        for wrong in ('merge = "rm -rf /"', "merge = [[]]", 'merge = ["x"]', 'fly = [["x"]]', "seconds = 0"):
            self.file.write_text(f'[site]\nname = "x"\nurl = "{LIVE_URL}"\ndatabase = "sqlite:///data/site.db"\n'
                                 f"[after]\n{wrong}\n")
            self.assertIn("is no list of commands", self.run_it("survey", "live", status=3), wrong)
