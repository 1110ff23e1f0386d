"""Texts and structures that a system keeps in columns of bytes: addresses and numbers in them are found as anywhere."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

from nostos.core.values import php
from tests.small import BYTES, ENGINES, Small, literal

LIVE, STAGING = "http://127.0.0.1:8431", "http://127.0.0.1:8432"


def page(number: int) -> int:
    """The number of a page on live: no small ones, and not one after the other."""
    return 4000 + 23 * number


def box(url: str, page: int, **more: object) -> bytes:
    return php.write({"title": "Séance", "link": f"{url}/page?id={page}", "page_id": page, **more}).encode()


class Boxes(Small):
    """Thirty pages, and thirty boxes that each point at one, in bytes."""

    def __init__(self, folder: Path, engine: str) -> None:
        rows = ", ".join(f"({n}, {literal(engine, box(LIVE, page(n * 7 % 30)))})" for n in range(1, 31))
        super().__init__(folder, engine, (
            "CREATE TABLE pages (id {key}, title VARCHAR(40))",
            f"CREATE TABLE boxes (id {{key}}, kept {BYTES[engine]})",
            "INSERT INTO pages (id, title) VALUES " + ", ".join(f"({page(n)}, 'Page {n}')" for n in range(31)),
            *(("SELECT setval('pages_id_seq', 4690)", "SELECT setval('boxes_id_seq', 30)")
              if engine == "postgresql" else ()),
            f"INSERT INTO boxes (id, kept) VALUES {rows}"))

    def kept(self, side: str, number: int) -> bytes:
        (found,), = self.sql(side, f"SELECT kept FROM boxes WHERE id = {number}")
        return found if isinstance(found, bytes) else str(found).encode()

    def keep(self, side: str, number: int, content: bytes) -> None:
        self.sql(side, f"UPDATE boxes SET kept = {literal(self.engine, content)} WHERE id = {number}")

    def add(self, side: str, content: bytes) -> None:
        self.sql(side, f"INSERT INTO boxes (kept) VALUES ({literal(self.engine, content)})")


class TextsInBytes(unittest.TestCase):
    def test_links_and_numbers_in_bytes_come_home_as_what_they_mean(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine), tempfile.TemporaryDirectory() as made:
                site = Boxes(Path(made), engine)
                self.assertEqual(site.kept("staging", 3), box(STAGING, page(21)))  # lengths too
                for side, title in (("live", "Theirs"), ("staging", "Ours")):  # both get one number
                    site.sql(side, f"INSERT INTO pages (title) VALUES ('{title}')")
                site.add("staging", box(STAGING, 4691))
                site.keep("staging", 5, box(STAGING, page(5), colour="blue"))
                site.keep("live", 5, box(LIVE, page(5), size=7))
                site.keep("staging", 6, bytes(range(256)))  # no text at all
                site.merge("*")
                (ours,), = site.sql("live", "SELECT id FROM pages WHERE title = 'Ours'")
                self.assertNotEqual(ours, 4691)
                self.assertEqual(site.kept("live", 31), box(LIVE, int(ours)))
                self.assertEqual(site.kept("live", 5), box(LIVE, page(5), size=7, colour="blue"))
                self.assertEqual(site.kept("live", 6), bytes(range(256)))
                self.assertNotIn("homeward", site.standings().values())
                if engine == "sqlite":
                    self.assertEqual(site.sql("live", "SELECT DISTINCT typeof(kept) FROM boxes"), [("blob",)])

    def test_a_key_of_bytes_is_what_it_is(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine), tempfile.TemporaryDirectory() as made:
                kind = "VARBINARY(90)" if engine == "mariadb" else BYTES[engine]
                site = Small(Path(made), engine, (
                    f"CREATE TABLE seen (place {kind} PRIMARY KEY, times INT)",
                    "INSERT INTO seen (place, times) VALUES " + ", ".join(
                        f"({literal(engine, f'{LIVE}/{n}'.encode())}, {n})" for n in (1, 2))))
                self.assertEqual(site.standings(), {})
                site.sql("staging", "UPDATE seen SET times = 4 WHERE times = 1")
                site.sql("live", "UPDATE seen SET times = 5 WHERE times = 2")
                self.assertEqual(sorted(site.standings().values()), ["homeward", "kept"])
                site.merge("*")
                self.assertEqual({(p if isinstance(p, bytes) else p.encode(), n) for p, n in site.sql(
                    "live", "SELECT place, times FROM seen")}, {(f"{LIVE}/1".encode(), 4), (f"{LIVE}/2".encode(), 5)})

    def test_what_bytes_point_at_is_not_removed(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine), tempfile.TemporaryDirectory() as made:
                site = Boxes(Path(made), engine)
                site.sql("staging", f"DELETE FROM pages WHERE id = {page(20)}")
                site.sql("staging", "DELETE FROM boxes WHERE id = 20")
                site.keep("live", 6, bytes(range(256)))
                site.add("live", box(LIVE, page(20)))
                site.merge("*")
                self.assertEqual(site.sql("live", f"SELECT title FROM pages WHERE id = {page(20)}"), [("Page 20",)])


if __name__ == "__main__":
    unittest.main()
