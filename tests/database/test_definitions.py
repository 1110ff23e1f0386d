"""No text of a definition is run that could be anything but that definition."""

import sqlite3
import tempfile
import unittest
from pathlib import Path

from nostos.core.database import definitions
from nostos.core.database.engines import locate
from nostos.core.errors import SiteError

PARTS = ("varchar(40) DEFAULT 'a, b; c' NOT NULL", "numeric(10,2)", "enum('x','y') COMMENT 'it''s -- so'",
         "(((data #>> '{a,b}'::text[]) IS NOT NULL))", "FOREIGN KEY (a, b) REFERENCES x(a, b) ON DELETE CASCADE",
         "ARRAY['a', 'b']", "nextval('\"Odd, name\"'::regclass)", "KEY `a,b` (`a`,`b`) USING BTREE", "(1 - -1)")
OTHERS = ("int); DELETE FROM orders; --", "int, DROP COLUMN email", "0; ATTACH 'x' AS y", "int /* ", "(1",
          "1)", "int -- x")


class Definitions(unittest.TestCase):
    def test_parts(self) -> None:
        for text in PARTS:
            self.assertEqual(definitions.part(text, "x"), text)
        for text in OTHERS:
            with self.subTest(text), self.assertRaises(SiteError):
                definitions.part(text, "x")

    def test_statements(self) -> None:
        good = 'CREATE UNIQUE INDEX "by title" ON page (title) WHERE title <> \'a; b\''
        self.assertEqual(definitions.whole(good, "(?:UNIQUE )?INDEX", "by title"), good)
        for text in ("DELETE FROM orders", good + "; DELETE FROM orders", good.replace("by title", "other"),
                     "CREATE TABLE x (id int)"):
            with self.subTest(text), self.assertRaises(SiteError):
                definitions.whole(text, "(?:UNIQUE )?INDEX", "by title")

    def test_a_database_runs_no_other(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "x.db"
            made = sqlite3.connect(path)
            made.executescript("CREATE TABLE orders (id INTEGER PRIMARY KEY, email TEXT);"
                               "INSERT INTO orders VALUES (1, 'a')")
            made.close()
            database = locate(f"sqlite:///{path}", Path(folder)).open()
            table = database.tables()["orders"]
            for attack in ("DELETE FROM orders", f"ATTACH '{folder}/y.db' AS y"):
                with self.assertRaises(SiteError):
                    database.create_index("orders", "by_email", attack)
            self.assertEqual(database.count(table.name), 1)
            database.close()
            self.assertFalse((Path(folder) / "y.db").exists())


if __name__ == "__main__":
    unittest.main()
