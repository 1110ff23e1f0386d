"""Files switched, finished and taken back one by one: what live wrote since is live's, at whatever point."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

from nostos.core.anchor.names import Side
from nostos.core.apply.files.switch import Switch
from nostos.core.files.entry import FileEntry
from nostos.core.files.trees import tree_at
from nostos.core.plan.operations import PutFile, SwitchFolder, files_as_seen


class Switched(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="nostos-test-")))
        for side, text in (("live", "old\n"), ("staging", "new\n")):
            (self.folder / side / "box").mkdir(parents=True)
            (self.folder / side / "a.txt").write_text(text)
        self.file = self.folder / "live" / "a.txt"
        self.live, self.staging = tree_at(self.folder / "live"), tree_at(self.folder / "staging")

    def staged(self, *paths: str) -> Switch:
        """A switch of these paths, laid down, and not carried out yet."""
        def entry(side: Side, path: str) -> FileEntry:
            found = (self.live if side is Side.LIVE else self.staging).entry(path, digest=True)
            assert found is not None
            return found

        puts = [PutFile("item", p, entry(Side.STAGING, p), entry(Side.LIVE, p), None) for p in paths]
        switch = Switch(self.live, self.staging, "op", Side.LIVE)
        switch.plan(puts, [c for p in puts for c in files_as_seen(p)])
        kept = tree_at(self.folder / "kept")
        kept.make_root()
        switch.stage(puts, lambda: kept)
        return switch

    def test_finishing_brings_what_is_staged_still(self) -> None:
        self.staged("a.txt").forward()
        self.assertEqual("new\n", self.file.read_text())

    def test_finishing_does_not_write_over_what_live_wrote_since(self) -> None:
        switch = self.staged("a.txt")
        self.file.write_text("later\n")
        switch.forward()
        self.assertEqual("later\n", self.file.read_text())

    def test_taking_back_leaves_what_live_wrote_since(self) -> None:
        switch = self.staged("a.txt")
        switch.go()
        self.assertEqual("new\n", self.file.read_text())
        self.file.write_text("later\n")
        switch.back()
        self.assertEqual(["a.txt", "box"], sorted(p.name for p in self.file.parent.iterdir()))
        self.assertEqual("later\n", self.file.read_text())

    def test_what_comes_late_from_the_old_folder_is_not_laid_over_what_is_newer(self) -> None:
        """A program that has the old folder open still writes there, and another has written in the new one since."""
        log = self.folder / "live" / "box" / "log.txt"
        log.write_text("1")
        (self.folder / "staging" / "box" / "new.txt").write_text("new")
        entry = self.staging.entry("box/new.txt", digest=True)
        assert entry is not None
        for newer, left in (("newer", "newer"), (None, "late")):
            with self.subTest(newer):
                work = SwitchFolder("item", "box", (PutFile("item", "box/new.txt", entry, None, None),), ())
                switch = Switch(self.live, self.staging, "op", Side.LIVE)
                switch.plan([work], list(files_as_seen(work)))
                switch.stage([work], lambda: self.live)
                switch.go()
                (old,) = (p / "log.txt" for p in self.folder.joinpath("live").glob(".nostos-op*o*"))
                for path, text in ((old, "late"), *([(log, newer)] if newer else ())):
                    path.unlink()
                    path.write_text(text)
                switch.tidy()
                self.assertEqual(left, log.read_text())
                (log.parent / "new.txt").unlink()

    def test_taking_back_leaves_the_rights_that_live_gave_since(self) -> None:
        box = self.folder / "live" / "box"
        for given, left in ((None, 0o755), (0o711, 0o711)):
            with self.subTest(given):
                box.chmod(0o755)
                (self.folder / "staging" / "box").chmod(0o700)
                switch = self.staged("box")
                switch.go()
                self.assertEqual(0o700, box.stat().st_mode & 0o777)
                if given is not None:
                    box.chmod(given)
                switch.back()
                self.assertEqual(left, box.stat().st_mode & 0o777)


if __name__ == "__main__":
    unittest.main()
