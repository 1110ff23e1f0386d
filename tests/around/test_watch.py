"""A merge that is watched: pages that answered before and fail now are told, and it is taken back if so asked."""

import json
import subprocess
import sys
from pathlib import Path

from tests.support import ServedTest, state


class Watching(ServedTest):
    def nostos(self, *words: str, said: str = "") -> tuple[int, str, str]:
        done = subprocess.run([sys.executable, "-m", "nostos", "--home", str(self.h.home.path), *words], input=said,
                              capture_output=True, text=True, check=False)
        return done.returncode, done.stdout, done.stderr

    def theme(self) -> Path:
        return self.h.staging_folder / "themes" / str(self.h.staging.setting("theme")) / "layout.html"

    def test_what_answers_stays_and_what_was_chosen_to_go_goes(self) -> None:
        staging = self.h.staging
        staging.edit(staging.find("page", "visit")["id"], title="How to reach us")
        staging.remove(staging.find("page", "winter-closing")["id"])
        status, out, err = self.nostos("merge", "trip", "--yes", "--watch", "--watch-pages", "6", "--take", "page/*")
        self.assertEqual(status, 0, out + err)
        self.assertIn("None of them fails", " ".join(out.split()))
        (self.folder / "pages.txt").write_text(f"# two\n/visit\n{self.h.live.address}/programme\n")
        staging.edit(staging.find("page", "visit")["id"], title="How to find us")
        _, out, _ = self.nostos("--json", "merge", "trip", "--yes", "--pages", str(self.folder / "pages.txt"))
        self.assertEqual(json.loads(out)["watched"], {"visited": 2, "failing": []})

    def test_pages_that_fail_are_told_and_the_merge_is_taken_back(self) -> None:
        good = self.theme().read_text()
        self.theme().write_text(good.replace("</body>", "<p>Fatal error: nothing here on line 7</p></body>"))
        before = state(self.h.live_folder)
        status, out, _ = self.nostos("merge", "trip", "--watch", "--watch-pages", "3", said="y\nn\n")
        self.assertEqual(status, 1)
        self.assertIn("3 pages of live fail that answered before the merge", out)
        self.assertIn("prints an error: Fatal error", " ".join(out.split()))
        self.assertLess(out.index("fail that answered"), out.index("Ledger"))
        self.assertEqual(self.nostos("undo", "trip", "--yes")[0], 0)
        self.assertEqual(state(self.h.live_folder), before)
        for words, said in ((("--watch",), "y\ny\n"), (("--yes", "--undo-if-broken"), "")):
            self.h.live.comment(self.h.live.find("note", "a-still-night")["id"], "A Visitor", "Nice")
            now = state(self.h.live_folder)
            status, out, _ = self.nostos("merge", "trip", *words, "--watch-pages", "3", said=said)
            self.assertEqual(status, 1)
            self.assertIn("was taken back", out)
            self.assertIn("All of them answer as before the merge", " ".join(out.split()))
            self.assertEqual(state(self.h.live_folder), now)

    def test_what_cannot_be_watched_is_said_before_anything_is_done(self) -> None:
        self.h.staging.add("page", "new", "New")
        before = state(self.h.live_folder)
        (self.folder / "pages.txt").write_text("/visit\nhttps://elsewhere.example/x\n")
        status, _, err = self.nostos("merge", "trip", "--yes", "--pages", str(self.folder / "pages.txt"))
        self.assertEqual(status, 3)
        self.assertIn("Line 2 of", err)
        self.servers[0].shutdown()
        self.servers[0].server_close()
        status, _, err = self.nostos("merge", "trip", "--yes", "--watch")
        self.assertEqual((status, state(self.h.live_folder)), (3, before))
        self.assertIn("Live cannot be watched", err)
