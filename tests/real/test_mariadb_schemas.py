"""Everything that a database of MariaDB's may hold, carried by clones and restores; the server's own dump is the
judge."""

import re
import subprocess
import unittest
from dataclasses import replace
from pathlib import Path

from nostos.core.anchor.open_voyage import opened
from nostos.core.apply.merge import merge
from nostos.core.backup.outlook import inspect_backup
from nostos.core.backup.restore import restore
from nostos.core.backup.write import backup
from nostos.core.clone.clone import clone
from nostos.core.clone.options import CloneOptions
from nostos.core.clone.remove import remove
from nostos.core.database.registry import locate
from nostos.core.engines.mysql.connection import MysqlDatabase
from nostos.core.plan.prepared import compare_voyage, prepare
from nostos.core.plan.selection import Choice
from nostos.core.sites.recognise import recognise
from nostos.core.takeback.undo import prepare_undo, to_take_back
from nostos.core.voyages.home import Home
from tests.real.servers import mariadb, missing
from tests.support import SiteTest

EVERYTHING = (Path(__file__).parent / "awkward_mariadb.sql").read_text()
# Who made a routine is whoever made it there; the server writes down its own moment; ours are not the site's.
APART = re.compile(r"DEFINER=\S+ ?|AUTO_INCREMENT=\d+ ?|^/\*!4.*|^/\*!50003 SET.*|"
                   r".*(?:nostos|character_set|collation_con).*")


@unittest.skipIf(missing(), missing())
class Schemas(SiteTest):
    def setUp(self) -> None:
        super().setUp()
        self.server = mariadb()
        self.live = self.server.new_database()
        self.client(EVERYTHING)
        (self.folder / "live").mkdir()
        url = f"mysql://root@localhost/{self.live}?unix_socket={self.server.socket}"
        (self.folder / "live" / "nostos.toml").write_text(
            f"[site]\nname = 'x'\nurl = 'https://x.example'\ndatabase = '{url}'\n")
        self.home = Home(self.folder / "home")
        self.site = recognise(self.folder / "live")

    def client(self, script: str) -> None:
        subprocess.run(["mariadb", "-S", self.server.socket, "-u", "root", self.live], input=script.encode(),
                       check=True, capture_output=True)

    def dump(self, database: str) -> list[str]:
        said = subprocess.run(["mariadb-dump", "-S", self.server.socket, "-u", "root", "--routines", "--triggers",
                               "--skip-comments", "--skip-extended-insert", "--hex-blob", database],
                              capture_output=True, check=True).stdout.decode().replace(database, "DB")
        return sorted(line for line in (APART.sub("", line) for line in said.splitlines()) if line)

    def same(self, one: list[str], other: list[str]) -> None:
        self.assertEqual(([x for x in one if x not in other], [x for x in other if x not in one]), ([], []))

    def test_everything_is_carried(self) -> None:
        before = self.dump(self.live)
        self.assertGreater(len(before), 250)
        for how in ({}, {"prefix": "s_"}):
            with self.subTest(how):
                place = clone(self.home, self.folder / "live", "trip", self.folder / "staging", "https://s.example",
                              CloneOptions(**how)).voyage.place
                with opened(self.home, self.home.read("trip")) as crew:
                    self.assertEqual(list(compare_voyage(crew)[0].items), [])
                if not how:
                    self.same(before, self.dump(place))
                else:  # nothing of the copy's leads to live's tables
                    self.client("INSERT INTO s_a (n) VALUES (1); UPDATE s_a SET n = 2; INSERT INTO s_s (t) VALUES (2)")
                    (made,) = self.server.run("SELECT (SELECT count(*) FROM a), (SELECT count(*) FROM log), "
                                              "(SELECT next_not_cached_value FROM sq)", database=self.live)
                    self.assertEqual(made, (2, 1, 110))
                self.assertEqual(remove(self.home, self.home.read("trip")), [])
                self.same(before, self.dump(self.live))
        backup(self.site, self.folder / "b.tar.zst")
        self.client("UPDATE s SET t = 7; INSERT INTO s (t) VALUES (8); DELETE FROM orders")
        restore(self.home, inspect_backup(self.folder / "b.tar.zst", self.site))
        self.same([x for x in before if "SETVAL" not in x], [x for x in self.dump(self.live) if "SETVAL" not in x])
        self.client("INSERT INTO s (t) VALUES (9)")
        self.assertEqual(self.server.run("SELECT max(id) FROM s", database=self.live), [(120,)])  # none twice

    def test_constraints_go_home(self) -> None:
        """Under their names, into a copy beside live's tables too; an undo takes them off."""
        for how in ({}, {"prefix": "s_"}):
            with self.subTest(how):
                place = clone(self.home, self.folder / "live", "trip", self.folder / "staging", "https://s.example",
                              CloneOptions(**how)).voyage.place
                own = how.get("prefix", "")
                self.server.run(f"ALTER TABLE {own}log ADD COLUMN shop int, ADD CONSTRAINT of_shop FOREIGN KEY (shop) "
                                f"REFERENCES {own}shops (id) ON DELETE CASCADE", database=place)
                self.server.run(f"ALTER TABLE {own}log ADD CONSTRAINT said CHECK (t <> '')", database=place)
                with opened(self.home, self.home.read("trip")) as crew:
                    done = merge(self.home, crew, prepare(crew, Choice(("*",))))
                now = str(self.server.run("SHOW CREATE TABLE log", database=self.live)[0][1])
                self.assertRegex(now, r"FOREIGN KEY \(`shop`\) REFERENCES `shops` \(`id`\) ON DELETE CASCADE")
                self.assertIn("CONSTRAINT `said` CHECK (`t` <> '')", now)
                self.assertEqual("CONSTRAINT `of_shop`" in now, not how)
                with opened(self.home, self.home.read("trip")) as crew:
                    self.assertNotIn("homeward", {str(i.standing) for i in compare_voyage(crew)[0].items.values()})
                    merge(self.home, crew, prepare_undo(
                        self.home, crew, to_take_back(self.home, "trip", done.id), schema=True))
                now = str(self.server.run("SHOW CREATE TABLE log", database=self.live)[0][1])
                self.assertNotRegex(now, "FOREIGN KEY|CHECK|shop")
                self.assertEqual(remove(self.home, self.home.read("trip")), [])

    def test_a_backup_runs_nothing_else(self) -> None:
        """A statement in a file that is two: the second is not run."""
        database = self.site.database.open()
        assert isinstance(database, MysqlDatabase)
        try:
            outline = database.outline()
            bad = replace(outline, views=(("x", "select 1 AS `x`; DROP TABLE bp"),), triggers=(), before=())
            place = locate(str(self.site.database.url).replace(self.live, self.server.new_database()), self.folder)
            target = place.open()
            try:
                target.build(outline)
                with self.assertRaises(database.driver.MySQLError):
                    target.finish(bad)
                self.assertIn("bp", target.tables())
            finally:
                target.close()
        finally:
            database.close()
