"""The real Python content system with a real shop, of which no profile says anything: both sides sell and write."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
import unittest
from collections import Counter
from importlib.util import find_spec
from pathlib import Path
from typing import Any

from nostos.core.anchor.open_voyage import answers_of
from nostos.core.apply.merge import merge
from nostos.core.compare.field_merge import Standing
from nostos.core.learning.findings import add_answers
from nostos.core.plan.prepared import prepare
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
    asks = frozenset(("home_notepage.stream/*/value@link",))

    @staticmethod
    def database() -> str:
        return "sqlite:///site.db"

    def work(self, folder: Path, what: str, program: str = "work.py") -> Any:
        done = subprocess.run([sys.executable, "-W", "ignore", program, what], cwd=folder, capture_output=True,
                              text=True, check=False)
        self.assertEqual(done.returncode, 0, done.stderr[-2000:])
        return json.loads(done.stdout.splitlines()[-1]) if program == "screens.py" or what == "told" else None

    def site(self) -> Path:
        live = self.folder / "live"
        shutil.copytree(Path(__file__).parent / "python_site", live)
        said = f"editors = {list(self.editors)}\n" if self.editors else ""
        (live / "nostos.toml").write_text(f"{said}[site]\nname = 'ridge'\nurl = 'http://ridge.example'\n"
                                          f"database = '{self.database()}'\n"
                                          + (f"profile = '{self.profile}'\n" if self.profile else ""))
        (live / "bare.toml").write_text("[profile]\nname = 'bare'\ntitle = 'Bare'\n")
        self.work(live, "seed")
        return live

    def test_both_sides_sell_write_and_move(self) -> None:
        live = self.site()
        h = Harbour(self.folder, live, "http://127.0.0.1:8431")
        self.work(live, "live")
        self.work(h.staging_folder, "staging")
        before = self.work(live, "told")
        self.assertLessEqual(self.kinds, {i.kind for i in h.compare().items.values()})
        asked = {str(q.place) for q in h.compare().questions}
        self.assertEqual(asked, self.asks)  # once, for revisions too
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
    asks = frozenset[str]()  # the system says itself what its streams point at

    def told(self, folder: Path) -> dict[str, Counter[str]]:
        """Everything that a site says of itself, by what its rows are called: never by their numbers."""
        said = self.work(folder, "told", "screens.py")
        return {model: Counter(row.replace("127.0.0.1:8431", "ridge.example") for row in rows)
                for model, rows in said.items() if model != "wagtailcore.site"}

    def test_the_systems_own_screens(self) -> None:
        """All that its screens offer is done in staging, while live sells and writes: nothing is asked, nothing is
        left, and live is what it was and what staging did."""
        h = Harbour(self.folder, self.site(), "http://127.0.0.1:8431")
        seed = self.told(h.live_folder)
        self.work(h.live_folder, "live")
        self.assertGreaterEqual(self.work(h.staging_folder, "all", "screens.py"), 120)
        before, staging = self.told(h.live_folder), self.told(h.staging_folder)
        with h.crew() as crew:
            prepared = prepare(crew)
            self.assertEqual([str(q) for q in prepared.comparison.questions], [])
            self.assertEqual([i.id for i in prepared.plan.selection.waiting], [])
            items = prepared.comparison.items.values()
            self.assertEqual([], [i.id for i in items if i.id.startswith("file/media/images/")])  # other sizes
            self.assertLessEqual({i.kind for i in items if not i.title and not i.gained}, {"log-entry"})
            tables = {r.table for i in items if i.kind == "page" for r in i.rows}
            self.assertIn("wagtailredirects_redirect", tables)  # where a page was is part of it
            merge(h.home, crew, prepared)
        after = self.told(h.live_folder)
        for model in before.keys() | staging.keys():
            was, now, here, then = (said.get(model, Counter()) for said in (seed, staging, before, after))
            self.assertEqual(then, here + (now - was) - (was - now), model)
        left = {i.id for i in h.compare().items.values() if i.standing is not Standing.KEPT}
        self.assertLessEqual({name.partition("/")[0] for name in left}, {"user"})  # an account goes when it is named
        with h.crew() as crew:
            merge(h.home, crew, prepare_undo(h.home, crew, to_take_back(h.home, "trip", None)))
        self.assertEqual(self.told(h.live_folder), before)


@unittest.skipIf(NEEDED or missing(), f"not installed: {', '.join(NEEDED) or missing()}")
class OnPostgresql(Told):
    @staticmethod
    def database() -> str:
        return postgres().url(postgres().new_database())


if __name__ == "__main__":
    unittest.main()
