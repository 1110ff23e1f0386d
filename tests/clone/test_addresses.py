"""A site's address and folder, however they are kept: staging's own in the copy, live's on the way home."""

from __future__ import annotations

import base64
import json
import unittest
from pathlib import Path

from tests.support import Harbour, SiteTest, rows

LIVE, STAGING = "https://live.example", "http://127.0.0.1:8431"


def coded(text: str) -> str:
    return base64.b64encode(text.encode()).decode()


class Addresses(SiteTest):
    def texts(self, url: str, folder: Path) -> dict[str, str]:
        """What a site with this address keeps."""
        return {"plain": f"{folder}/cache is where {url}/a is kept, {self.folder}/live-old is not",
                "nested": json.dumps({"inner": json.dumps({"dir": f"{folder}/media"})}),
                "escapes": '{"u":"' + url.replace("/", "\\u002F") + '\\u002Fb"}',
                "coded": coded(f'{{"at": "{url}/c", "in": "{folder}/x"}}'),
                "site_host": url.rpartition("/")[2].partition(":")[0],
                "site_port": (url.rpartition("/")[2].partition(":")[2] or "443"),
                "site_scheme": url.partition(":")[0], "mail_port": "443"}

    def test_there_and_back(self) -> None:
        live = self.folder / "live"
        live.mkdir()
        (live / "nostos.toml").write_text(f'[site]\nname = "made"\nurl = "{LIVE}"\ndatabase = "sqlite:///made.db"\n')
        db = live / "made.db"
        db.touch()
        rows(db, "CREATE TABLE options (id INTEGER PRIMARY KEY, name TEXT UNIQUE, value TEXT)")
        rows(db, "CREATE TABLE places (id INTEGER PRIMARY KEY, hostname TEXT, port INTEGER, title TEXT)")
        rows(db, "INSERT INTO places VALUES (1, 'live.example', 443, 'main'), (2, 'other.example', 443, 'other')")
        for name, value in self.texts(LIVE, live).items():
            rows(db, "INSERT INTO options (name, value) VALUES (?, ?)", name, value)
        h = Harbour(self.folder, live, STAGING)
        copy = h.staging_folder / "made.db"
        self.assertEqual(dict(rows(copy, "SELECT name, value FROM options")), self.texts(STAGING, h.staging_folder))
        self.assertEqual(rows(copy, "SELECT hostname, port FROM places"), [("127.0.0.1", 8431), ("other.example", 443)])
        self.assertEqual(h.standings(), {})
        new = self.texts(f"{STAGING}", h.staging_folder)
        rows(copy, "UPDATE options SET value=? WHERE name='coded'", coded(f'{{"at": "{STAGING}/new"}}'))
        rows(copy, "UPDATE options SET value=? WHERE name='nested'", new["nested"].replace("media", "pictures"))
        rows(copy, "UPDATE places SET title='renamed' WHERE id=1")
        h.merge("*")
        home = dict(rows(db, "SELECT name, value FROM options"))
        self.assertEqual(home["coded"], coded(f'{{"at": "{LIVE}/new"}}'))
        self.assertEqual(home["nested"], self.texts(LIVE, live)["nested"].replace("media", "pictures"))
        self.assertEqual(rows(db, "SELECT * FROM places")[0], (1, "live.example", 443, "renamed"))


if __name__ == "__main__":
    unittest.main()
