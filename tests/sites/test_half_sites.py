"""Sites of files only, sites of a database only, and what there is in a tree beside files."""

import os
import sqlite3
from pathlib import Path

from nostos.around.survey import survey
from nostos.core.errors import SiteError
from nostos.core.sites.recognise import recognise
from tests.support import Harbour, SiteTest, rows, tree


class FilesOnly(SiteTest):
    def setUp(self) -> None:
        super().setUp()
        self.site = self.folder / "pages"
        for name, text in (("nostos.toml", '[site]\nname = "p"\nurl = "https://p.example"\ndatabase = "none"\n'),
                           ("index.html", "one\ntwo\nthree\n"), ("docs/a.txt", "a\n"), ("docs/b.txt", "b\n")):
            (self.site / name).parent.mkdir(parents=True, exist_ok=True)
            (self.site / name).write_text(text)
        (self.site / "inbox").mkdir()
        self.h = Harbour(self.folder, self.site, "https://staging.p.example")

    def put(self, side: Path, name: str, text: str) -> None:
        (side / name).parent.mkdir(parents=True, exist_ok=True)
        (side / name).write_text(text)

    def test_three_ways(self) -> None:
        live, staging = self.site, self.h.staging_folder
        self.put(staging, "index.html", "one\ntwo\nTHREE\n")
        self.put(live, "index.html", "ONE\ntwo\nthree\n")
        self.put(staging, "new/deep/x.txt", "x\n")
        self.put(live, "upload.txt", "a visitor's\n")
        (staging / "docs/a.txt").rename(staging / "docs/A.txt")
        (staging / "docs/b.txt").chmod(0o600)
        (staging / "link").symlink_to("docs/A.txt")
        self.assertEqual(self.h.standings(), {
            "file/docs/A.txt": "homeward", "file/docs/a.txt": "homeward", "file/docs/b.txt": "homeward",
            "file/index.html": "blended", "file/link": "homeward", "file/new/deep/x.txt": "homeward",
            "file/upload.txt": "kept"})
        result = self.h.merge()
        self.assertEqual([(line.kind, line.gained) for line in result.ledger if line.gained], [("file", 1)])
        self.assertEqual((live / "index.html").read_text(), "ONE\ntwo\nTHREE\n")
        self.assertEqual(sorted(p.name for p in (live / "docs").iterdir()), ["A.txt", "b.txt"])
        self.assertEqual((live / "docs/b.txt").stat().st_mode & 0o777, 0o600)
        self.assertEqual(os.readlink(live / "link"), "docs/A.txt")
        self.assertEqual(self.h.homeward(), [])
        self.assertEqual(survey(recognise(self.site)).findings, ())

    def test_empty_folders(self) -> None:
        live, staging = self.site, self.h.staging_folder
        self.assertTrue((staging / "inbox").is_dir())
        (staging / "outbox/sub").mkdir(parents=True)
        (staging / "inbox").rmdir()
        (staging / "docs/a.txt").unlink()
        (staging / "docs/b.txt").unlink()
        self.assertEqual(set(self.h.homeward()), {"file/outbox/sub", "file/inbox", "file/docs/a.txt", "file/docs/b.txt",
                                                  "file/docs"})
        self.h.merge()
        self.assertEqual(sorted(p.name for p in live.iterdir()), ["docs", "index.html", "nostos.toml", "outbox"])
        self.assertTrue((live / "outbox/sub").is_dir())
        (staging / "docs").rmdir()
        self.put(staging, "outbox/sub/letter", "x")
        self.put(live, "docs/late.txt", "live's")
        self.h.merge()
        self.assertEqual(set(tree(live)), {"nostos.toml", "index.html", "outbox/sub/letter", "docs/late.txt"})
        self.assertEqual(self.h.homeward(), [])


class DatabaseOnly(SiteTest):
    def test_rows_and_no_files(self) -> None:
        site = self.folder / "data"
        site.mkdir()
        connection = sqlite3.connect(site / "x.db")
        connection.executescript("CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t (v) VALUES ('a')")
        connection.close()
        (site / "nostos.toml").write_text(
            'editors = ["*"]\n[site]\nname = "d"\nurl = "https://d.example"\n'
                                          'database = "sqlite:///x.db"\nfiles = "none"\n')
        (site / "beside.txt").write_text("not the site's")
        h = Harbour(self.folder, site)
        rows(h.staging_folder / "x.db", "INSERT INTO t (v) VALUES ('staging')")
        rows(site / "x.db", "INSERT INTO t (v) VALUES ('live')")
        (h.staging_folder / "stray.txt").write_text("x")
        self.assertEqual(h.standings(), {"t/2~live": "kept", "t/2~staging": "homeward"})
        h.merge()
        self.assertEqual(rows(site / "x.db", "SELECT v FROM t"), [("a",), ("live",), ("staging",)])
        self.assertEqual(sorted(p.name for p in h.staging_folder.iterdir()),
                         [".nostos-voyage", "nostos.toml", "stray.txt", "x.db"])
        (site / "nostos.toml").write_text(
            'editors = ["*"]\n[site]\nname = "d"\nurl = "https://d.example"\ndatabase = "none"\n'
                                          'files = "none"\n')
        with self.assertRaisesRegex(SiteError, "neither a database nor files"):
            recognise(site)
