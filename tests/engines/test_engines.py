"""An engine from outside: what it brings is found by its name alone."""

import json
from pathlib import Path
from typing import Any
from unittest import mock

import msgspec

from nostos.core.clone.remove import remove
from nostos.core.database import registry as engines
from nostos.core.database.registry import locate, register
from nostos.core.database.schema import Column, ForeignKey, Table
from nostos.core.errors import SiteError
from tests.engines.tiny import TinyEngine
from tests.support import Harbour, SiteTest

PAGES = Table("pages", tuple(Column(n, "text", n != "id", None) for n in ("id", "slug", "title")), ("id",), True,
              (("slug",),))
NOTES = Table("notes", tuple(Column(n, "text", n != "id", None) for n in ("id", "page", "body")), ("id",), True, (),
              (ForeignKey(("page",), "pages", ("id",)),))


class Outside(SiteTest):
    def setUp(self) -> None:
        super().setUp()
        engines._every()  # those that Nostos brings along register themselves once
        self.enterContext(mock.patch.dict(engines._engines))
        register(TinyEngine())
        live = self.folder / "site"
        live.mkdir()
        (live / "nostos.toml").write_text('[site]\nname = "tiny"\nurl = "http://tiny.example"\n'
                                          'database = "tiny:///site.json"\nfiles = "."\n')
        (live / "page.html").write_text("<p>Hello</p>")
        self.write(live, {
            "pages": self.table(PAGES, {"id": 1, "slug": "home", "title": "Home"}, {"id": 2, "slug": "old",
                                                                                   "title": "Old"}),
            "notes": self.table(NOTES, {"id": 1, "page": 1, "body": "First"})})
        self.h = Harbour(self.folder, live)

    @staticmethod
    def table(table: Table, *rows: dict[str, Any]) -> dict[str, Any]:
        return {"table": msgspec.to_builtins(table), "rows": list(rows), "next": len(rows) + 1}

    @staticmethod
    def write(site: Path, data: dict[str, Any]) -> None:
        (site / "site.json").write_text(json.dumps(data))

    def change(self, site: Path, table: str, **row: Any) -> None:
        data = json.loads((site / "site.json").read_text())
        rows = data[table]["rows"]
        data[table]["rows"] = [r for r in rows if r["id"] != row["id"]] + ([row] if len(row) > 1 else [])
        data[table]["next"] = max(data[table]["next"], row["id"] + 1)
        self.write(site, data)

    def rows(self, table: str) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = json.loads((self.h.live_folder / "site.json").read_text())[table]["rows"]
        return found

    def test_it_is_cloned_compared_merged_and_retired(self) -> None:
        h = self.h
        self.assertEqual(h.standings(), {})
        self.change(h.staging_folder, "pages", id=3, slug="talks", title="Talks")
        self.change(h.staging_folder, "notes", id=2, page=3, body="About talks")
        self.change(h.staging_folder, "pages", id=2)
        self.change(h.live_folder, "pages", id=3, slug="orders", title="Live's own")
        (h.staging_folder / "page.html").write_text("<p>New</p>")
        # With no profile visitors' rows and editors' are the same: all of it is homeward.
        self.assertEqual(set(h.homeward()), {"pages/3~staging", "notes/2", "pages/2", "file/page.html"})
        merged = h.merge()
        self.assertEqual({(r["slug"], r["id"]) for r in self.rows("pages")}, {("home", 1), ("orders", 3), ("talks", 4)})
        self.assertEqual([r["page"] for r in self.rows("notes")], [1, 4])
        self.assertTrue(all(line.holds for line in merged.ledger))
        self.assertEqual((h.live_folder / "page.html").read_text(), "<p>New</p>")
        self.assertEqual(set(h.standings().values()), {"kept"})
        with h.home.lock("trip"):
            self.assertEqual(remove(h.home, h.home.read("trip")), [])
        self.assertFalse(h.staging_folder.exists())

    def test_one_that_is_not_there(self) -> None:
        with self.assertRaisesRegex(SiteError, "of the kind paper are not supported") as caught:
            locate("paper://desk/drawer", self.folder)
        self.assertIn("MariaDB and MySQL", caught.exception.next_step)
