"""No text of a definition is run that could be anything but that definition."""

import sqlite3
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from nostos.core.clone.copy_rows import RowCopier
from nostos.core.database import definitions
from nostos.core.database import registry as engines
from nostos.core.database.outline import Outline, Trigger
from nostos.core.database.registry import locate
from nostos.core.errors import SiteError

PARTS = {
    "mysql": ("varchar(40) DEFAULT 'a, b; c' NOT NULL", "numeric(10,2)", "enum('x','y') COMMENT 'it''s -- so'",
              "KEY `a,b` (`a`,`b`) USING BTREE", r"text DEFAULT 'a\'; b'", "FOREIGN KEY (`a`) REFERENCES `x` (`a`)"),
    "postgresql": ("(((data #>> '{a,b}'::text[]) IS NOT NULL))", "ARRAY['a', 'b']", r"text DEFAULT '\'", "(1 - -1)",
                   "nextval('\"Odd, name\"'::regclass)", "FOREIGN KEY (a, b) REFERENCES x(a, b) ON DELETE CASCADE",
                   r"text DEFAULT E'it\'s; x'", "text DEFAULT $q$ ; ' $q$"),
    "sqlite": ("[odd; type]", "text DEFAULT 'a, b'", r"text DEFAULT '\' COLLATE NOCASE")}
# A text that ends early for one engine goes on for another.
OTHERS = {
    "mysql": ("int); DELETE FROM orders; --", "int, DROP COLUMN email", "int /* ", "(1", "1)", "int -- x", "int # x",
              r"text DEFAULT '\\', DROP COLUMN email, ADD z text DEFAULT '\\'", "int /*! , DROP COLUMN email */",
              "int --"),
    "postgresql": (r"text DEFAULT '\', DROP COLUMN email, ADD z text DEFAULT '\'", "0 --x", "int /* /* */", "'a",
                   r"text DEFAULT E'\', ADD y text DEFAULT '; x'"[:-1], "$$a$$; DROP TABLE x", "([1)]"),
    "sqlite": ("0; ATTACH 'x' AS y", r"text DEFAULT '\', evil text DEFAULT '\'", '"open')}
MADE = {
    ("sqlite", "index", "by title"): 'CREATE UNIQUE INDEX "by title" ON page (title) WHERE title <> \'a; b\'',
    ("sqlite", "table", "x"): "CREATE TABLE x (id int, -- its key; and\n y text CHECK (y <> ';')) WITHOUT ROWID;",
    ("sqlite", "view", "x"): "CREATE VIEW x (a, b) AS SELECT 1, ';'",
    ("sqlite", "trigger", "x"): "CREATE TRIGGER x AFTER INSERT ON page BEGIN SELECT CASE WHEN 1 THEN 2 END; DELETE "
                                "FROM page WHERE NEW.end = 1; END",
    ("sqlite", "virtual table", "x"): "CREATE VIRTUAL TABLE x USING fts5(title, content='')",
    ("postgresql", "index", "x"): "CREATE INDEX x ON public.page USING btree (lower(title)) INCLUDE (a) WHERE (b > 5)"}
UNMADE = (("index", "DELETE FROM orders"), ("index", "CREATE TABLE x (id int)"),
          ("index", "CREATE INDEX y ON page (a)"), ("index", "CREATE INDEX x ON orders (a)"),
          ("index", "CREATE INDEX x ON page (a); DELETE FROM orders"),
          ("index", "CREATE INDEX x ON page (a) DELETE FROM orders"),
          ("table", "CREATE TABLE x AS SELECT * FROM orders"),
          ("view", "CREATE VIEW x AS DELETE FROM orders"), ("view", "CREATE VIEW x AS SELECT 1; DELETE FROM orders"),
          ("trigger", "CREATE TRIGGER x AFTER INSERT ON page BEGIN SELECT 1; END; DELETE FROM orders"),
          ("trigger", "CREATE TRIGGER x AFTER INSERT ON page BEGIN SELECT 1; END; SELECT CASE WHEN 1 THEN 2 END"))


class Definitions(unittest.TestCase):
    def test_parts(self) -> None:
        for engine, texts in PARTS.items():
            for text in texts:
                with self.subTest(text, engine=engine):
                    self.assertEqual(definitions.part(text, engine, "x"), text)
        for engine, texts in OTHERS.items():
            for text in texts:
                with self.subTest(text, engine=engine), self.assertRaises(SiteError):
                    definitions.part(text, engine, "x")

    def test_statements(self) -> None:
        for (engine, kind, name), text in MADE.items():
            with self.subTest(text):
                over = ("page",) if kind == "index" else ()
                self.assertEqual(definitions.whole(text, engine, kind, name, over), text)
        for kind, text in UNMADE:
            with self.subTest(text), self.assertRaises(SiteError):
                definitions.whole(text, "sqlite", kind, "x", ("page",) if kind == "index" else ())

    def test_what_makes_a_table_makes_no_other(self) -> None:
        good = ['CREATE SEQUENCE IF NOT EXISTS "s" START 1', 'CREATE UNLOGGED TABLE "page" (\n  "id" int DEFAULT 1,\n  '
                'CONSTRAINT "c" CHECK ((id > 1))\n) PARTITION BY RANGE (id) WITH (fillfactor=70)',
                'ALTER SEQUENCE "s" OWNED BY "page"."id"', 'CREATE TABLE "page_1" PARTITION OF "page" DEFAULT',
                'ALTER TABLE "page_1" ALTER COLUMN "id" SET DEFAULT 2', "COMMENT ON COLUMN page.id IS 'a; b'",
                'ALTER TABLE ONLY "page" ADD CONSTRAINT "f" FOREIGN KEY (id) REFERENCES orders(id) NOT VALID']
        self.assertEqual(definitions.of_table(good, ("page",)), {"page", "page_1"})
        for more in ("DROP TABLE orders", "ALTER TABLE orders DROP COLUMN email", 'ALTER TABLE "page" OWNER TO someone',
                     "ALTER TABLE page ADD CONSTRAINT c CHECK (a), DROP COLUMN email", "ALTER SEQUENCE t OWNED BY p.i",
                     "CREATE TABLE page AS SELECT * FROM orders", "COMMENT ON COLUMN orders.id IS 'x'",
                     "CREATE TABLE x PARTITION OF orders DEFAULT", "COMMENT ON TABLE page IS 'x'; DROP TABLE orders"):
            with self.subTest(more), self.assertRaises(SiteError):
                definitions.of_table([*good, more], ("page",))
        own = "CREATE TABLE `page` (`id` int(11) NOT NULL, KEY `a` (`id`)) ENGINE=InnoDB COMMENT='x; y'"
        for text in (own, own + "\n/*!50100 PARTITION BY RANGE (`id`) (PARTITION p VALUES LESS THAN (5)) */"):
            self.assertEqual(definitions.whole(text, "mysql", "table", "page"), text)
        for text in ("DROP TABLE orders", own + " AS SELECT * FROM orders", own + "; DROP TABLE orders",
                     own + " /*! AS SELECT * FROM orders */", own.replace("page", "orders"),
                     own + " /*!; DROP TABLE x */"):
            with self.subTest(text), self.assertRaises(SiteError):
                definitions.whole(text, "mysql", "table", "page")

    def test_nothing_in_a_backup_or_of_a_far_site_reaches_out(self) -> None:
        body = "CREATE TRIGGER x AFTER INSERT ON page BEGIN SELECT load_extension('x.so'); END"
        for outline in (Outline("sqlite", triggers=(Trigger("x", "page", "", "", body),)),
                        Outline("mysql", before=(("x", "DROP DATABASE live"),)),
                        Outline("postgresql", before=(("x", "DROP DATABASE live"),))):
            with self.subTest(outline.engine), self.assertRaises(SiteError):
                engines.engine(outline.engine).check_outline(outline)
            source, target = mock.Mock(), mock.Mock()
            source.sizes.return_value, source.outline.return_value = {}, outline
            with self.assertRaises(SiteError):
                RowCopier(mock.Mock(), source, target, mock.Mock(), mock.Mock(), far=True).run({})
            target.build.assert_not_called()

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
