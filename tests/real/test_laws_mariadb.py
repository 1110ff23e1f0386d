"""A sample of the laws on MariaDB: generated edits on both sides of a library, told only by its declared keys."""

import os
import shutil
import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st

from nostos.core.anchor.names import Side
from nostos.core.anchor.open_voyage import opened
from nostos.core.apply.merge import merge
from nostos.core.clone.clone import clone
from nostos.core.clone.remove import remove
from nostos.core.compare.field_merge import Standing
from nostos.core.plan.prepared import compare_voyage, prepare
from nostos.core.plan.selection import Choice
from nostos.core.voyages.home import Home
from tests.real.servers import mariadb, missing

SCHEMA = """
CREATE TABLE readers (id int AUTO_INCREMENT PRIMARY KEY, card varchar(20) NOT NULL UNIQUE, name text);
CREATE TABLE shelves (code varchar(9) PRIMARY KEY, room text);
CREATE TABLE books (id int AUTO_INCREMENT PRIMARY KEY, title text, shelf varchar(9), sequel int,
  FOREIGN KEY (shelf) REFERENCES shelves (code), FOREIGN KEY (sequel) REFERENCES books (id));
CREATE TABLE loans (reader int, book int, due date, PRIMARY KEY (reader, book),
  FOREIGN KEY (reader) REFERENCES readers (id), FOREIGN KEY (book) REFERENCES books (id));
INSERT INTO readers (card) VALUES ('R1'), ('R2');
INSERT INTO shelves VALUES ('A', 'north'), ('B', 'at https://library.example');
INSERT INTO books (title, shelf) VALUES ('Tides', 'A'), ('Winds', 'B'), ('Rain', NULL);
INSERT INTO loans VALUES (1, 1, NULL)
"""
# {side} and {n} are filled in; ids are picked from what is there, so that both sides give out the same ones.
STEPS = (
    "INSERT IGNORE INTO readers (card, name) VALUES ('{side}{n}', '{side}')",
    "INSERT IGNORE INTO readers (card, name) VALUES ('both{n}', '{side}')",
    "INSERT IGNORE INTO shelves VALUES ('{n}', 'room of {side}')",
    "INSERT INTO books (title, shelf, sequel) SELECT 'Book {side}', (SELECT max(code) FROM shelves), id FROM books "
    "WHERE id = {n}",
    "INSERT IGNORE INTO loans SELECT max(readers.id), max(books.id), NULL FROM readers, books",
    "UPDATE books SET title = 'Edited {side}' WHERE id = {n}",
    "UPDATE books SET sequel = NULL WHERE id = {n}",
    "UPDATE IGNORE readers SET name = 'See {url}/{side}' WHERE id = {n}",
    "DELETE IGNORE FROM loans WHERE book = {n}",
    "DELETE IGNORE FROM books WHERE id = {n}",
    "DELETE IGNORE FROM shelves WHERE code = '{n}'",
)
EXAMPLES = int(os.environ.get("NOSTOS_EXAMPLES", "40"))
steps = st.lists(st.tuples(st.sampled_from(STEPS), st.integers(1, 5)), max_size=6)


@unittest.skipIf(missing(), missing())
class Laws(unittest.TestCase):
    def setUp(self) -> None:
        self.server: Any = self.started()
        few = mock.patch("nostos.core.apply.rows.ahead._WORTH", 1)  # what many edits go through, few do, too
        few.start()
        self.addCleanup(few.stop)

    def started(self) -> Any:
        return mariadb()

    def url(self, live: str) -> str:
        return f"mysql://root@/{live}?unix_socket={self.server.socket}"

    def edit(self, statement: str, database: str) -> None:
        self.server.run(statement, database=database)

    def rows(self, database: str) -> dict[str, set[tuple[Any, ...]]]:
        return {t: set(self.server.run(f"SELECT * FROM {t}", database=database))
                for t in ("readers", "shelves", "books", "loans")}

    def dangling(self, database: str) -> list[tuple[Any, ...]]:
        return self.server.run(
            "SELECT id FROM books WHERE sequel NOT IN (SELECT id FROM books) "
            "OR shelf NOT IN (SELECT code FROM shelves) "
            "UNION ALL SELECT book FROM loans WHERE book NOT IN (SELECT id FROM books) "
            "OR reader NOT IN (SELECT id FROM readers)", database=database)

    @settings(max_examples=EXAMPLES // 4, deadline=None, phases=(Phase.explicit, Phase.generate, Phase.shrink),
              suppress_health_check=list(HealthCheck))
    @given(steps, steps)
    def test_laws_of_one_merge(self, on_live: list[tuple[str, int]], on_staging: list[tuple[str, int]]) -> None:
        live = self.server.new_database()
        for statement in SCHEMA.split(";\n"):
            self.edit(statement, live)
        folder = Path(tempfile.mkdtemp(prefix="nostos-law-"))
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        (folder / "live").mkdir()
        (folder / "live/nostos.toml").write_text(
            '[site]\nname = "library"\nurl = "https://library.example"\n'
            f"database = '{self.url(live)}'\n")
        home = Home(folder / "home")
        clone(home, folder / "live", "law", folder / "staging", "https://staging.example")
        voyage = home.read("law")
        for database, side, url, edits in ((voyage.place, "s", "https://staging.example", on_staging),
                                           (live, "l", "https://library.example", on_live)):
            for statement, n in edits:
                self.edit(statement.format(side=side, n=n, url=url), database)
        with opened(home, voyage) as crew:
            before = compare_voyage(crew)[0]
            kept = [s for i in before.items.values() for s in i.rows if s.base is None and s.target is not None]
            result = merge(home, crew, prepare(crew, Choice(everyone=True)))
            after, needs = compare_voyage(crew)
            self.assertTrue(all(line.holds for line in result.ledger))
            self.assertEqual(list(needs), [])  # 6: nothing is left that can go home
            for state in kept:  # 8: what live gained is there, and equal
                table = crew.live.open().tables()[state.table]
                assert state.target_raw is not None
                self.assertEqual(crew.live.open().fetch(table, table.key_of(state.target_raw)), state.target_raw)
            done = self.rows(live)
            merge(home, crew, prepare(crew, Choice(everyone=True)))
            self.assertEqual(done, self.rows(live))  # 5: twice is once
            if not on_live and not [i for i in before.items.values() if i.standing is Standing.CLASH]:
                self.assertEqual(after.items, {})  # 2: live is staging, in portable form
            merge(home, crew, prepare(crew, toward=Side.STAGING))  # a refresh leaves live as it is
            self.assertEqual(done, self.rows(live))
            self.assertEqual(list(compare_voyage(crew, toward=Side.STAGING)[1]), [])
            self.assertEqual(self.dangling(voyage.place), [])
        self.assertEqual(self.dangling(live), [])  # 9
        self.assertNotIn("staging.example", repr(done))
        self.assertEqual(remove(home, home.read("law")), [])
        self.server.run(f"DROP DATABASE {live}")
