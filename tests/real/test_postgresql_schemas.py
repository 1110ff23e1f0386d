"""Everything that a PostgreSQL schema may hold, carried by clones and restores; the server's own dump is the judge."""

import re
import subprocess
import unittest
from pathlib import Path

import psycopg

from nostos.around.survey import Level, survey
from nostos.core.anchor.open_voyage import opened
from nostos.core.apply.merge import merge
from nostos.core.backup.outlook import inspect_backup
from nostos.core.backup.restore import restore
from nostos.core.backup.write import backup
from nostos.core.clone.clone import clone
from nostos.core.clone.options import CloneOptions
from nostos.core.clone.remove import remove
from nostos.core.errors import MergeRefused, SiteError
from nostos.core.plan.prepared import compare_voyage, prepare
from nostos.core.plan.selection import Choice
from nostos.core.sites.recognise import recognise
from nostos.core.voyages.home import Home
from tests.real.postgres import missing, postgres
from tests.support import SiteTest

EVERYTHING = (Path(__file__).parent / "awkward.sql").read_text()
BEFORE = """DO $$ BEGIN CREATE ROLE nostos_reader NOLOGIN; EXCEPTION WHEN duplicate_object THEN NULL; END $$;
CREATE SCHEMA extensions; GRANT USAGE ON SCHEMA extensions TO public; CREATE EXTENSION citext SCHEMA extensions;
CREATE EXTENSION pg_trgm SCHEMA extensions; CREATE EXTENSION hstore; CREATE EXTENSION btree_gist;
CREATE TABLE brought (id int PRIMARY KEY); CREATE VIEW brought_too AS SELECT * FROM brought;
ALTER EXTENSION hstore ADD TABLE brought; ALTER EXTENSION hstore ADD VIEW brought_too;
GRANT ALL ON SCHEMA public TO live"""
WORK = """INSERT INTO news (t) VALUES ('home'); INSERT INTO things (t) VALUES ('home');
INSERT INTO lamps (t, watts) VALUES ('home', 7); UPDATE lamps SET watts = 6 WHERE watts = 5;
INSERT INTO visits (at, kind) VALUES ('2026-06-06', 'a'); CREATE TABLE added (id serial PRIMARY KEY,
news bigint REFERENCES news, t text); INSERT INTO added (news, t) SELECT id, 'home' FROM news WHERE t = 'home';
ALTER TABLE texts ADD COLUMN news bigint REFERENCES news;
ALTER TABLE texts ADD CONSTRAINT said CHECK (t <> ''), ADD UNIQUE (t); CREATE INDEX by_n ON visits_26a (n, kind)"""
ELSEWHERE = """CREATE SCHEMA shop; CREATE SCHEMA reports;
CREATE TABLE shop.orders (id serial PRIMARY KEY, total numeric);
CREATE TABLE members (id serial PRIMARY KEY, first_order int REFERENCES shop.orders); CREATE TYPE shop.state AS
ENUM ('a'); CREATE TABLE states (id int PRIMARY KEY, s shop.state); INSERT INTO shop.orders (total) VALUES (1);
INSERT INTO members (first_order) VALUES (1); CREATE VIEW reports.all_members AS SELECT * FROM members"""
AUDITED = """CREATE TABLE app.s (id serial PRIMARY KEY, t text); INSERT INTO app.s (t) VALUES ('x');
CREATE TABLE audit.seen (t text); CREATE FUNCTION app.see() RETURNS trigger LANGUAGE plpgsql AS
'BEGIN INSERT INTO seen VALUES (NEW.t); RETURN NEW; END';
CREATE TRIGGER see AFTER INSERT ON app.s FOR EACH ROW EXECUTE FUNCTION app.see()"""
OURS = re.compile(r"nostos_(?:marks|merges|copy)|restrict|^ALTER SCHEMA|ON SCHEMA|^SET|^SELECT pg_catalog.set_config")


@unittest.skipIf(missing(), missing())
class Schemas(SiteTest):
    def setUp(self) -> None:
        super().setUp()
        self.server = postgres()
        self.live = self.server.new_database()
        (self.folder / "live").mkdir()
        self.site("")
        self.home = Home(self.folder / "home")

    def site(self, schema: str) -> None:
        (self.folder / "live" / "nostos.toml").write_text(
            f"[site]\nname = 'x'\nurl = 'https://x.example'\ndatabase = '{self.server.url(self.live)}{schema}'\n")

    def sql(self, script: str, database: str = "") -> list[tuple[object, ...]]:
        with psycopg.connect(self.server.url(database or self.live), autocommit=True) as connection:
            cursor = connection.execute(script.encode())
            while cursor.nextset():
                pass
            return cursor.fetchall() if cursor.description else []

    def dump(self, database: str, *options: str) -> list[str]:
        """What the server's own program says of a database, statement by statement."""
        said = subprocess.run(
            ["pg_dump", *options, "-h", str(self.server.folder), "-p", str(self.server.port), "-U", self.server.user,
             database], capture_output=True, text=True, check=True, cwd="/").stdout
        statements = ["\n".join(line for line in part.splitlines() if not line.startswith("--") and line)
                      for part in re.split(r";\n", said)]
        return sorted(s for s in statements if not OURS.search(s) and s.strip())

    maxDiff = None

    def same(self, one: list[str], other: list[str]) -> None:
        self.assertEqual(([s for s in one if s not in other], [s for s in other if s not in one]), ([], []))

    def clone(self, **options: str) -> str:
        place = clone(self.home, self.folder / "live", "trip", self.folder / "staging", "https://s.example",
                      CloneOptions(**options)).voyage.place
        with opened(self.home, self.home.read("trip")) as crew:
            self.assertEqual({i: str(x.standing) for i, x in compare_voyage(crew)[0].items.items()}, {})
        return place

    def test_everything_is_carried(self) -> None:
        self.server.run(BEFORE, self.live)
        self.sql(EVERYTHING)
        schema, rows = self.dump(self.live, "-s"), self.dump(self.live, "-a", "--inserts", "-n", "public")
        self.assertGreater(len(schema), 190)
        found = survey(recognise(self.folder / "live")).findings
        self.assertEqual({f.what.split("table ")[1] for f in found if f.level is Level.OBSTACLE},
                         {f"{name} has no key." for name in ("log", "nokey", "nocolumns")})
        with self.subTest("a database of its own"):
            place = self.clone()
            self.same(schema, self.dump(place, "-s"))
            self.same(rows, self.dump(place, "-a", "--inserts", "-n", "public"))
            self.assertEqual(remove(self.home, self.home.read("trip")), [])
        with self.subTest("a schema of the same one"):
            self.clone(database=f"{self.server.url(self.live)}?schema=trial")
            there = [s.replace("trial.", "public.") for s in self.dump(self.live, "-s", "-n", "trial")]
            self.same(*([s for s in some if not re.search("EXTENSION|FOR ROLE|^CREATE SCHEMA", s)]
                        for some in (schema, there)))
            self.assertEqual(remove(self.home, self.home.read("trip")), [])
            self.assertEqual(self.sql("SELECT 1 FROM pg_namespace WHERE nspname = 'trial'"), [])
            self.same(schema, self.dump(self.live, "-s"))
        with self.subTest("a restore"):
            backup(recognise(self.folder / "live"), self.folder / "b.tar.zst")
            self.sql("INSERT INTO news (t) VALUES ('goes'); UPDATE lamps SET watts = 9; DROP VIEW totals")
            restore(self.home, inspect_backup(self.folder / "b.tar.zst", recognise(self.folder / "live")))
            self.same(schema, self.dump(self.live, "-s"))
            now = self.dump(self.live, "-a", "--inserts", "-n", "public")
            self.assertEqual([r for r in rows if "shared_ids" not in r], [r for r in now if "shared_ids" not in r])
            self.assertEqual(self.sql("INSERT INTO seats DEFAULT VALUES RETURNING id"), [(3,)])  # not given out again

    def test_work_on_what_is_shared_goes_home(self) -> None:
        """Numbers from one sequence for several tables, tables that inherit, partitions, constraints, and who may use a
        new table."""
        self.server.run(BEFORE, self.live)
        self.sql(EVERYTHING + "; ALTER DEFAULT PRIVILEGES IN SCHEMA public REVOKE SELECT ON TABLES FROM nostos_reader")
        self.server.run("GRANT SELECT ON ALL TABLES IN SCHEMA public TO nostos_reader;"
                        "GRANT USAGE ON ALL SEQUENCES IN SCHEMA public TO nostos_reader", self.live)
        place = self.clone()
        self.sql(WORK, place)
        self.sql("INSERT INTO events (t) VALUES ('live''s'); INSERT INTO lamps (watts) VALUES (8); "
                 "INSERT INTO visits (at, kind) VALUES ('2026-07-07', 'z')")
        with opened(self.home, self.home.read("trip")) as crew:
            result = merge(self.home, crew, prepare(crew, Choice(("*",))))
            self.assertTrue(all(line.holds for line in result.ledger))
        self.assertEqual(self.sql("SELECT news.t FROM news JOIN added ON news.id = added.news WHERE added.t = 'home' "
                                  "AND news.id NOT IN (SELECT id FROM events)"), [("home",)])
        self.assertEqual(self.sql("SELECT watts FROM lamps ORDER BY 1"), [(6,), (7,), (8,)])
        self.assertEqual(self.sql("SELECT count(*) FROM ONLY things WHERE t = 'home'"), [(1,)])
        self.assertEqual(self.sql("SELECT kind FROM visits WHERE at > '2026-06-01'"), [("z",)])  # nobody guessed a key
        self.assertEqual(self.sql("SELECT count(*) FROM pg_constraint WHERE conrelid = 'texts'::regclass "
                                  "AND contype IN ('f', 'c', 'u')"), [(3,)])
        self.assertEqual(self.server.run(
            "SELECT has_table_privilege('nostos_reader', 'added', 'SELECT'), has_table_privilege('nostos_reader', "
            "'added', 'INSERT'), has_sequence_privilege('nostos_reader', 'added_id_seq', 'USAGE')", self.live),
            [(True, False, True)])
        self.sql("INSERT INTO news (t) VALUES ('next'); INSERT INTO added (t) VALUES ('next')")  # no number twice
        with opened(self.home, self.home.read("trip")) as crew:
            self.assertEqual([i for i, x in compare_voyage(crew)[0].items.items() if str(x.standing) == "homeward"], [])

    def test_what_leads_to_other_schemas(self) -> None:
        """Types in another schema: a copy is made beside; what would hold on to live's rows is left out of it."""
        self.server.run(f"GRANT CREATE ON DATABASE {self.live} TO live", self.live)
        self.sql(ELSEWHERE)
        said = " ".join(f.what for f in survey(recognise(self.folder / "live")).findings)
        self.assertRegex(said, r"in other schemas: shop.state \(states.s\).*members -> shop.orders")
        self.assertIn("?schema=", self.clone())
        schema = self.home.read("trip").place.partition("?schema=")[2]
        self.assertEqual(self.sql("SELECT contype::text FROM pg_constraint WHERE conrelid = "
                                  f"'{schema}.members'::regclass"), [("p",)])
        self.sql("UPDATE members SET first_order = NULL; DELETE FROM shop.orders")  # no copy is in the way
        backup(recognise(self.folder / "live"), self.folder / "b.tar.zst")
        with self.assertRaisesRegex(MergeRefused, "reports.all_members, which is outside of the site"):
            restore(self.home, inspect_backup(self.folder / "b.tar.zst", recognise(self.folder / "live")))

    def test_a_search_path_of_its_own(self) -> None:
        self.server.run(f"CREATE SCHEMA app AUTHORIZATION live; CREATE SCHEMA audit AUTHORIZATION live; ALTER DATABASE "
                        f"{self.live} SET search_path = app, public, audit; REVOKE ALL ON DATABASE {self.live} FROM "
                        "public", self.live)
        self.sql(AUDITED)
        place = self.clone()
        self.assertEqual(self.dump(self.live, "-n", "app"), self.dump(place, "-n", "app"))
        self.assertEqual(self.sql("SELECT t FROM s", place), [("x",)])
        self.sql("ALTER TABLE s DISABLE TRIGGER see; INSERT INTO s (t) VALUES ('home')", place)
        with opened(self.home, self.home.read("trip")) as crew:
            merge(self.home, crew, prepare(crew, Choice(("*",))))
        self.assertEqual(self.sql("SELECT t FROM audit.seen"), [("home",)])  # live's own trigger has written elsewhere
        self.assertEqual(self.server.run(f"SELECT has_database_privilege('public', '{place}', 'CONNECT')"), [(False,)])

    def test_a_schema_in_capitals_and_numbers_as_they_are_written(self) -> None:
        self.sql('CREATE SCHEMA "Ridge"; CREATE TABLE "Ridge".page (id serial PRIMARY KEY, doc jsonb); INSERT INTO '
                 """"Ridge".page (doc) VALUES ('{"a": 1.10, "b": 2.50, "c": 1}')""")
        (self.folder / "live" / "x.html").write_text("x")
        self.site('?schema=Ridge')
        place = self.clone()
        edit = """UPDATE "Ridge".page SET doc = jsonb_set(doc, '{%s}', '%s')"""
        self.sql(edit % ("b", "3.30"), place.partition("?")[0])
        self.sql(edit % ("c", "7"))
        with opened(self.home, self.home.read("trip")) as crew:
            merge(self.home, crew, prepare(crew, Choice(("*",))))
        self.assertEqual(self.sql('SELECT doc::text FROM "Ridge".page'), [('{"a": 1.10, "b": 3.30, "c": 7}',)])

    def test_a_user_who_may_do_little(self) -> None:
        """Told before anything is done, and in plain words where it is tried all the same."""
        for sql in ("CREATE ROLE poor LOGIN", "CREATE DATABASE poor", "CREATE DATABASE poor2 OWNER poor"):
            self.server.run(sql)
        self.server.run("CREATE TABLE a (id serial PRIMARY KEY, t text); ALTER TABLE a OWNER TO poor", "poor")
        url = f"postgresql://poor@127.0.0.1:{self.server.port}/poor"
        (self.folder / "live" / "nostos.toml").write_text(f"[site]\nname = 'x'\nurl = 'https://x.example'\n"
                                                          f"database = '{url}'\n")
        said = [f.what for f in survey(recognise(self.folder / "live")).findings]
        self.assertIn("The user may not make tables in the schema public.", said)
        self.assertRegex(" ".join(said), "no place for a copy but one that is named")
        with self.assertRaisesRegex(SiteError, "cannot be made: permission denied"):
            self.clone()
        self.clone(database=f"{url}2")
        self.server.run("INSERT INTO a (t) VALUES ('new')", "poor2")
        with opened(self.home, self.home.read("trip")) as crew, self.assertRaisesRegex(SiteError, "may not make"):
            merge(self.home, crew, prepare(crew, Choice(("*",))))

    def test_rows_that_cannot_be_seen(self) -> None:
        self.sql("CREATE TABLE a (id int PRIMARY KEY); INSERT INTO a VALUES (1); ALTER TABLE a ENABLE ROW LEVEL "
                 "SECURITY; ALTER TABLE a FORCE ROW LEVEL SECURITY; CREATE POLICY few ON a USING (id > 1)")
        with self.assertRaisesRegex(SiteError, "row-level security") as caught:
            self.clone()
        self.assertIn("BYPASSRLS", caught.exception.next_step)
