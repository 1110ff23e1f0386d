"""The laws over trees that are not of this machine: nothing goes round the protocol."""

import shutil
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from nostos.core.apply.merge import merge
from nostos.core.backup.outlook import inspect_backup as look_into
from nostos.core.backup.restore import restore
from nostos.core.backup.write import backup
from nostos.core.files.trees import tree_at
from nostos.core.sites.recognise import recognise
from nostos.core.takeback.undo import prepare_undo, to_take_back
from tests.files.memory import MemoryTree
from tests.support import Harbour

PATHS = ("a.txt", "b/c.txt", "b/d/e.txt", "ext/star/main.php", "ext/star/lib/x.php", "ext/moon/main.php",
         "ext/sun/n.php")
EDITS = st.dictionaries(st.sampled_from(PATHS), st.sampled_from(["", "one\n", "two\n"]), max_size=5)
PROFILE = '[profile]\nname = "shelf"\ntitle = "Shelf"\n\n[[folder]]\nkind = "extension"\npath = "ext/*"\n'


class AnyTree(unittest.TestCase):
    def harbour(self) -> Harbour:
        folder = Path(tempfile.mkdtemp(prefix="nostos-test-"))
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        self.trees = {folder / side / "files": MemoryTree(side) for side in ("site", "staging")}
        self.live, self.staging = self.trees.values()
        for module in ("sites.recognise", "clone.clone"):
            self.enterContext(mock.patch(f"nostos.core.{module}.tree_at", lambda p: self.trees.get(p) or tree_at(p)))
        for path in PATHS[:-2]:
            self.live.put(path, "old\n")
        (folder / "site").mkdir()
        (folder / "site" / "shelf.toml").write_text(PROFILE)
        (folder / "site" / "nostos.toml").write_text('[site]\nname = "shelf"\nurl = "http://shelf.example"\n'
                                                     'database = "none"\nfiles = "files"\nprofile = "shelf.toml"\n')
        (folder / "staging").mkdir()
        return Harbour(folder, folder / "site")

    @staticmethod
    def change(tree: MemoryTree, edits: dict[str, str]) -> None:
        for path, content in edits.items():
            tree.put(path, content) if content else tree.remove(path)

    @settings(max_examples=25, deadline=None)
    @given(EDITS, EDITS)
    def test_merge_and_undo(self, mine: dict[str, str], theirs: dict[str, str]) -> None:
        h = self.harbour()
        old = self.live.contents()
        self.assertEqual(old, self.staging.contents())
        self.assertEqual(h.merge().id, "")
        self.change(self.staging, mine)
        self.change(self.live, theirs)
        before, staged = self.live.contents(), self.staging.contents()
        wanted = dict(before)
        for path in {*staged, *old}:
            if staged.get(path) != old.get(path) and before.get(path) == old.get(path):
                wanted[path] = staged.get(path, b"")
        merged = h.merge()
        self.assertEqual({p: c for p, c in wanted.items() if c}, self.live.contents())
        self.assertNotIn("homeward", h.standings().values())
        if merged.id:
            with h.crew() as crew:
                merge(h.home, crew, prepare_undo(h.home, crew, to_take_back(h.home, "trip", None)))
            self.assertEqual(before, self.live.contents())

    def test_backup_and_restore(self) -> None:
        h = self.harbour()
        site, before = recognise(h.live_folder), self.live.contents()
        backup(site, h.folder / "shelf.tar.zst")
        self.change(self.live, {"a.txt": "", "b/c.txt": "new\n", "ext/sun/n.php": "new\n"})
        restore(h.home, look_into(h.folder / "shelf.tar.zst", site))
        self.assertEqual(before, self.live.contents())
