"""An extension that both sides updated is one side's, never a mixture of two versions."""

import shutil
import unittest
from typing import Any
from unittest import mock

from nostos.core.anchor.names import Side
from nostos.core.apply.files.switch import Switch
from nostos.core.apply.merge import merge
from nostos.core.errors import MergeRefused
from nostos.core.files.local.tree import LocalTree
from nostos.core.plan.decisions import Decision
from nostos.core.plan.prepared import prepare
from nostos.core.plan.selection import Choice
from tests.support import Harbour, SiteTest, tree

CHART = "extensions/star-chart"


class Wholes(SiteTest):
    def updated(self, live: str, staging: str) -> Harbour:
        """Both sides give the star chart these versions, and each changes a file of its own."""
        h = self.harbour()
        for folder, version, own in ((h.live_folder, live, "live.txt"), (h.staging_folder, staging, "staging.txt")):
            manifest = folder / CHART / "manifest.toml"
            manifest.write_text(manifest.read_text().replace('version = "1.4"', f'version = "{version}"'))
            (folder / CHART / own).write_text("new\n")
        return h

    def files(self, h: Harbour) -> set[str]:
        return {p.name for p in (h.live_folder / CHART).iterdir()}

    def test_one_version_or_the_other(self) -> None:
        h = self.updated("1.4.1", "1.5")
        item = h.compare().items["extension/star-chart"]
        self.assertEqual(str(item.standing), "clash")
        self.assertIn("one side's as a whole", item.reason)
        h.merge()
        self.assertNotIn("staging.txt", self.files(h))
        with h.crew() as crew:
            merge(h.home, crew, prepare(crew, Choice(prefer=(Decision("extension/star-chart", Side.STAGING),))))
        self.assertTrue({"staging.txt"} <= self.files(h) and "live.txt" not in self.files(h))
        self.assertIn('version = "1.5"', (h.live_folder / CHART / "manifest.toml").read_text())

    def test_without_another_version_both_survive(self) -> None:
        h = self.updated("1.4", "1.4")
        self.assertEqual(str(h.compare().items["extension/star-chart"].standing), "blended")
        h.merge()
        self.assertLessEqual({"live.txt", "staging.txt"}, self.files(h))

    def test_what_live_writes_into_a_folder_is_there_at_once(self) -> None:
        """A log and a cache that came after the new folder was laid down: from the first moment of the new one on."""
        h = self.updated("1.4", "1.4")
        log, stage, tidy = h.live_folder / CHART / "log.txt", Switch.stage, Switch.tidy
        seen: list[bool] = []

        def staged(*args: Any) -> None:
            stage(*args)
            log.write_text("a visitor came\n")

        def tidied(switch: Switch) -> None:
            seen.append(log.exists())
            tidy(switch)

        with mock.patch.object(Switch, "stage", staged), mock.patch.object(Switch, "tidy", tidied):
            h.merge()
        self.assertEqual([True], seen)
        self.assertIn("staging.txt", self.files(h))
        self.assertEqual("a visitor came\n", log.read_text())

    def test_a_switch_is_taken_back_where_two_folders_cannot_change_places(self) -> None:
        """With what live wrote into the new folder meanwhile; on kernels and filesystems without that call, too."""
        for exchanges in (True, False):
            h = self.updated("1.4", "1.4")
            before, go = tree(h.live_folder), Switch.go

            def gone(switch: Switch) -> None:
                go(switch)  # noqa: B023
                (h.live_folder / CHART / "log.txt").write_text("a visitor came\n")  # noqa: B023
                raise OSError(28, "No space left")

            with mock.patch.object(Switch, "go", gone), \
                    mock.patch.object(LocalTree, "exchange", LocalTree.exchange if exchanges else lambda *_: False), \
                    self.subTest(exchanges=exchanges), self.assertRaisesRegex(MergeRefused, "No space left"):
                h.merge()
            log = (f"{CHART}/log.txt", b"a visitor came\n")
            self.assertEqual({p: c for p, c in tree(h.live_folder).items() if p != log[0]}, before)
            self.assertEqual((h.live_folder / log[0]).read_bytes(), log[1])
            shutil.rmtree(self.folder)
            self.folder.mkdir()


if __name__ == "__main__":
    unittest.main()
