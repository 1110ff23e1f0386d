"""The real Python content system with a real shop, of which no profile says anything: both sides sell and write."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
import unittest
from importlib.util import find_spec
from pathlib import Path
from typing import Any

from nostos.core.anchor.open_voyage import answers_of
from nostos.core.apply.merge import merge
from nostos.core.profiles.learning.findings import add_answers
from nostos.core.sites.recognise import recognise
from nostos.core.takeback.undo import prepare_undo, to_take_back
from tests.real.postgres import missing, postgres
from tests.support import Harbour, SiteTest

NEEDED = [name for name in ("wagtail", "oscar") if find_spec(name) is None]


@unittest.skipIf(NEEDED, f"not installed: {', '.join(NEEDED)}")
class PythonSystem(SiteTest):
    profile = "bare.toml"  # which says nothing
    editors: tuple[str, ...] = ("partner_stockrecord", "wagtailredirects_redirect")  # what is in doubt without it
    kinds = frozenset(("wagtailcore_page", "catalogue_product", "order_order"))

    @staticmethod
    def database() -> str:
        return "sqlite:///site.db"

    def work(self, folder: Path, what: str) -> Any:
        done = subprocess.run([sys.executable, "-W", "ignore", "work.py", what], cwd=folder, capture_output=True,
                              text=True, check=False)
        self.assertEqual(done.returncode, 0, done.stderr[-2000:])
        return json.loads(done.stdout.splitlines()[-1]) if what == "told" else None

    def test_both_sides_sell_write_and_move(self) -> None:
        live = self.folder / "live"
        shutil.copytree(Path(__file__).parent / "python_site", live)
        said = f"editors = {list(self.editors)}\n" if self.editors else ""
        (live / "nostos.toml").write_text(f"{said}[site]\nname = 'ridge'\nurl = 'http://ridge.example'\n"
                                          f"database = '{self.database()}'\n"
                                          + (f"profile = '{self.profile}'\n" if self.profile else ""))
        (live / "bare.toml").write_text("[profile]\nname = 'bare'\ntitle = 'Bare'\n")
        self.work(live, "seed")
        h = Harbour(self.folder, live, "http://127.0.0.1:8431")
        self.work(live, "live")
        self.work(h.staging_folder, "staging")
        before = self.work(live, "told")
        self.assertLessEqual(self.kinds, {i.kind for i in h.compare().items.values()})
        asked = {str(q.place) for q in h.compare().questions}
        self.assertEqual(asked, {"home_notepage.stream/*/value@link"})  # asked once, for revisions too
        site = recognise(h.live_folder / "nostos.toml")
        database = site.open(readonly=True)
        add_answers(answers_of(h.home, site), dict.fromkeys(asked, "wagtailcore_page"), database.tables())
        database.close()
        h.merge()
        after = self.work(live, "told")
        self.assertEqual((after["orders"], after["sound"]), (before["orders"], True))
        self.assertLessEqual(before["pages"].keys(), after["pages"].keys())
        wanted = {
            "Staging note": ["Notes", "/home/notes/staging-note/", "staging", [], [], True, []],
            "Staging evening": ["Programme", "/home/programme/staging-evening/", "staging", ["staging", "Staging note"],
                                ["Staging note"], True, ["staging", "Staging note"]],
            "Evening 1": ["Notes", "/home/notes/evening-1/", "p1", ["p1", "Programme"], ["Notes"], True,
                          ["p1", "Programme"]],
            "Below evening": ["Evening 1", "/home/notes/evening-1/below-evening/", "", [], [], True, []],
            "Note 1": ["Programme", "/home/programme/note-1/", "", [], [], True, []],
            "Live evening": ["Programme", "/home/programme/live-evening/", "", [], [], True, []]}
        self.assertEqual({title: after["pages"].get(title) for title in wanted}, wanted)
        number = next(n for n, title in after["pictures"].items() if title == "staging")
        self.assertIn(f'<embed embedtype="image" id="{number}"', after["body"])
        self.assertEqual(after["goods"]["Ticket staging"], [["Evenings > Staging"], ["sku-staging"]])
        self.assertEqual(after["goods"]["Ticket live"], before["goods"]["Ticket live"])
        self.assertEqual(after["redirects"], {  # of what was moved, by the system itself, on both sides
            "/old-evening": "Staging evening", "/programme/evening-1": "Evening 1", "/notes/note-1": "Note 1"})
        sold = before["stock"]["sku-1"][2]
        self.assertEqual(after["stock"]["sku-1"], ["12.00", 50, sold, "<p>Warm blankets now.</p>"])
        self.assertEqual([s for s in before["stock"] if s != "sku-1" and before["stock"][s] != after["stock"][s]], [])
        with h.crew() as crew:
            merge(h.home, crew, prepare_undo(h.home, crew, to_take_back(h.home, "trip", None)))
        self.assertEqual(self.work(live, "told"), before)


class Told(PythonSystem):
    """The same, with the profile that ships with Nostos."""

    profile = ""  # it is recognised
    editors = ()
    kinds = frozenset(("page", "product", "order", "basket", "category"))


@unittest.skipIf(NEEDED or missing(), f"not installed: {', '.join(NEEDED) or missing()}")
class OnPostgresql(Told):
    @staticmethod
    def database() -> str:
        return postgres().url(postgres().new_database())


if __name__ == "__main__":
    unittest.main()
