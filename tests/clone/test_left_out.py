"""Tables whose rows a copy does without: they are never taken for removed, and nothing may point at them."""

from __future__ import annotations

import sqlite3

from nostos.core.clone.afresh import afresh
from nostos.core.clone.clone import clone
from nostos.core.clone.options import CloneOptions
from nostos.core.errors import SiteError
from nostos.core.voyages.home import Home
from tests.support import Harbour, SiteTest, rows


class LeftOut(SiteTest):
    def test_a_log_is_left_out(self) -> None:
        site, home = self.folder / "live", Home(self.folder / "home")
        site.mkdir()
        with sqlite3.connect(site / "made.db") as db:
            db.executescript("""
                CREATE TABLE pages (id INTEGER PRIMARY KEY AUTOINCREMENT, title TEXT);
                CREATE TABLE visits (id INTEGER PRIMARY KEY AUTOINCREMENT, page INTEGER REFERENCES pages (id), at TEXT);
                INSERT INTO pages (title) VALUES ('One'), ('Two');
                INSERT INTO visits (page, at) VALUES (1, '2026-01-01'), (2, '2026-01-02');""")
        (site / "nostos.toml").write_text('[site]\nname = "made"\nurl = "http://made.example"\nfiles = "none"\n'
                                          'database = "sqlite:///made.db"\n')
        for wrong, said in (("pages", "visits.page points at them"), ("nothing", "There is no table nothing")):
            with self.assertRaisesRegex(SiteError, said):
                clone(home, site, "trip", self.folder / "staging", "http://s.example", CloneOptions(skip_rows=[wrong]))
        clone(home, site, "trip", self.folder / "staging", "http://s.example", CloneOptions(skip_rows=["visits"]))
        h = Harbour.__new__(Harbour)
        h.home, h.live_folder, h.staging_folder = home, site, self.folder / "staging"
        for turn in ("one", "two"):
            live, staging = site / "made.db", self.folder / "staging/made.db"
            self.assertEqual((rows(staging, "SELECT * FROM visits"), h.standings()), ([], {}))
            with sqlite3.connect(staging) as db:
                db.execute("INSERT INTO visits (page, at) VALUES (1, 'test')")
                db.execute("UPDATE pages SET title = ? WHERE id = 1", (turn,))
            with sqlite3.connect(live) as db:
                db.execute("DELETE FROM visits WHERE id = 1")
            h.merge()
            h.refresh()
            self.assertEqual(rows(live, "SELECT title FROM pages"), [(turn,), ("Two",)])
            self.assertEqual(rows(live, "SELECT id, page FROM visits"), [(2, 2)])
            self.assertEqual(rows(staging, "SELECT at FROM visits"), [("test",)])
            afresh(home, home.read("trip"))
