"""What the page for those who change the program says of its rooms is true, and leads to where a change starts."""

import ast
import importlib.util
import os
import re
import shutil
import subprocess
import sys
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

from nostos.core.profiles.policies import Policy

ROOT = Path(__file__).parents[2]
SOURCE = ROOT / "src" / "nostos"

# A change as somebody new would put it, a word of it to look for on the page, and where it belongs.
TWENTY = (
    ("Addresses in a fourth spelling stay live's in staging", "address that is not replaced", "core/values/urls.py",
     "UrlForms"),
    ("Read values in one more structured form", "structured value", "core/values/structures.py", "read"),
    ("Merge long texts by sentence", "long text", "core/values/merging.py", "merge_text"),
    ("Give ssh a further option", "by ssh", "core/hosts/ssh.py", "Started"),
    ("Keep one more attribute of files", "owners, rights", "core/files/local/tree.py", "LocalTree"),
    ("PostgreSQL's time-outs should read better", "an error of one server", "core/engines/postgresql/connect.py",
     "explained"),
    ("A field of which the higher value counts", "a policy", "core/profiles/policies.py", "Policy"),
    ("Let a profile name a further kind of file", "a key in a profile", "core/profiles/parts.py", "OwnedFile"),
    ("Weigh the order in which numbers rise", "what a number is", "core/learning/evidence.py", "Weigher"),
    ("A table with telephone numbers is a visitor's", "whose a table", "core/learning/whose.py", "whose"),
    ("Recognise a site by another configuration file", "is recognised", "core/sites/recognise.py", "recognise"),
    ("Switch a copy's payments to their test mode", "the guards", "core/sites/guards.py", "set_guards"),
    ("Note in the journal when a mail was sent", "the journal", "core/voyages/journal.py", "Step"),
    ("Make up telephone numbers in a copy", "masks", "core/clone/masking.py", "Mask"),
    ("Two redirects from one path are one thing", "same thing", "core/compare/matching.py", "Matcher"),
    ("Show a booking by its guest's name", "is called", "core/compare/naming.py", "_Naming"),
    ("A page takes its form along", "takes along", "core/plan/needs.py", "_Finder"),
    ("Ask under the lock whether a table is empty", "must be true", "core/plan/conditions.py", "RowAs"),
    ("Undo leaves what an editor has changed since", "undo", "core/takeback/undo.py", "undone"),
    ("Warn of a full disk before a clone", "the survey", "around/survey.py", "survey"),
)


class Inside(unittest.TestCase):
    def test_twenty_changes_are_found_by_the_page_and_folder_names_alone(self) -> None:
        page = (ROOT / "docs" / "inside.md").read_text()
        rows = [row.split("|")[1:3] for row in re.search(
            r"## Where a change starts\n\n(.*?)\n\n", page, re.DOTALL).group(1).splitlines()[2:]]
        for change, words, path, symbol in TWENTY:
            with self.subTest(change):
                starts = [places for what, places in rows if words in what]
                self.assertEqual(len(starts), 1, "one row of the page speaks of it")
                named = re.findall(r"`([^`]+)`", starts[0])
                self.assertTrue(any(path.startswith(re.sub(r"(NAME/|\*.*)$", "", place)) for place in named), named)
                tree = ast.parse((SOURCE / path).read_text())
                self.assertIn(symbol, {getattr(node, "name", "") for node in tree.body})
        for _, places in rows:
            for place in re.findall(r"`([^`]+)`", places):
                self.assertTrue(list(SOURCE.glob(place.replace("NAME", "*"))), place)

    def test_the_picture_of_the_rooms_is_what_the_imports_say(self) -> None:
        spec = importlib.util.spec_from_file_location("draw_rooms", ROOT / "docs" / "draw_rooms.py")
        draw = importlib.util.module_from_spec(spec)
        spec.loader.exec_module(draw)
        self.assertLessEqual(len(draw.BOXES), 12)
        self.assertEqual((ROOT / "docs" / "rooms.svg").read_text(), draw.svg(draw.arrows()),
                         "make it anew: python docs/draw_rooms.py")
        rooms = {p.name for base in (SOURCE, SOURCE / "core") for p in base.iterdir() if p.is_dir()} - {"core"}
        self.assertEqual(rooms - {"__pycache__"}, {room for names, *_ in draw.BOXES.values() for room in names})
        floors = {box: floor for box, (*_, floor) in draw.BOXES.items()}
        self.assertEqual([(a, b) for a, b in draw.arrows() if floors[a] >= floors[b]], [])

    def test_every_policy_is_on_the_page_of_profiles(self) -> None:
        page = (ROOT / "docs" / "profiles.md").read_text()
        given_out = {"place", "inherited", "reckoned", "derived"}  # they follow from other parts of a profile
        self.assertEqual([n for n in Policy.every if n not in given_out and f"`{n}`" not in page], [])

    def test_the_worked_change_works(self) -> None:
        first, second = re.findall(r"```python\n(.*?)```", (ROOT / "CONTRIBUTING.md").read_text(), re.DOTALL)
        with TemporaryDirectory() as made:
            tree = Path(made)
            shutil.copytree(SOURCE, tree / "src" / "nostos")
            test = tree / "tests" / "compare" / "test_highest.py"
            test.parent.mkdir(parents=True)
            test.write_text(first)

            def run() -> "subprocess.CompletedProcess[str]":
                return subprocess.run([sys.executable, "-m", "unittest", "tests.compare.test_highest"], cwd=tree,
                                      text=True,
                                      capture_output=True, env={**os.environ, "PYTHONPATH": str(tree / "src")})

            self.assertIn("there is no policy 'highest'", run().stderr)
            with (tree / "src/nostos/core/profiles/policies.py").open("a") as file:
                file.write(second)
            self.assertEqual(run().returncode, 0, run().stderr)
