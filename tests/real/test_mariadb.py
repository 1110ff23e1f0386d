"""A MariaDB of every awkward type and key: cloned, compared and merged, told only by its declared keys."""

import re
import unittest
from collections.abc import Callable, Sequence
from contextlib import suppress
from unittest import mock
from urllib.parse import quote

from nostos.around.survey import survey
from nostos.core.anchor.open_voyage import opened
from nostos.core.apply.ledger import Ledger
from nostos.core.apply.merge import merge
from nostos.core.apply.verify import Removals
from nostos.core.clone.clone import clone
from nostos.core.clone.options import CloneOptions
from nostos.core.clone.remove import remove
from nostos.core.database.registry import locate
from nostos.core.engines.mysql.connection import MysqlDatabase
from nostos.core.errors import MergeRefused, NostosError, SiteError, TargetMoved
from nostos.core.plan.prepared import compare_voyage, prepare
from nostos.core.plan.selection import Choice
from nostos.core.sites.recognise import recognise
from nostos.core.takeback.recover import recover
from nostos.core.takeback.undo import prepare_undo, to_take_back
from nostos.core.voyages.home import Home
from tests.faults import killed
from tests.real.servers import PASSWORD, MariaDB, mariadb, missing
from tests.support import SiteTest

SCHEMA = """
CREATE TABLE kr_shelves (code varchar(9) PRIMARY KEY, room varchar(40)) CHARACTER SET latin1;
CREATE TABLE kr_books (id int unsigned AUTO_INCREMENT PRIMARY KEY, isbn varchar(20) UNIQUE, title text NOT NULL,
  shelf varchar(9) CHARACTER SET latin1, sequel int unsigned, cover longblob, flags bit(12), mood enum('calm','wild'),
  tags set('a','b'), price decimal(9,3), weight float, far double, born datetime DEFAULT '0000-00-00 00:00:00',
  day date, seen timestamp NULL, years year, options longtext CHECK (json_valid(options)),
  letters int GENERATED ALWAYS AS (char_length(title)) STORED, FOREIGN KEY (shelf) REFERENCES kr_shelves (code),
  FOREIGN KEY (sequel) REFERENCES kr_books (id));
CREATE TABLE kr_loans (id bigint AUTO_INCREMENT PRIMARY KEY, since datetime(6));
CREATE TABLE kr_loan_items (loan bigint, book int unsigned, due date, PRIMARY KEY (loan, book),
  FOREIGN KEY (loan) REFERENCES kr_loans (id), FOREIGN KEY (book) REFERENCES kr_books (id));
CREATE TABLE kr_hashes (digest binary(4) PRIMARY KEY, note varchar(99) COLLATE utf8mb4_unicode_ci);
CREATE TABLE kr_scribbles (text text);
CREATE TABLE kr_old (id int PRIMARY KEY) ENGINE=MyISAM;
CREATE TABLE other_site (id int PRIMARY KEY);
CREATE VIEW kr_lent AS SELECT title FROM kr_books JOIN kr_loan_items ON book = kr_books.id;
CREATE TRIGGER kr_stamp AFTER UPDATE ON kr_books FOR EACH ROW INSERT INTO kr_scribbles VALUES ('100% renamed');
INSERT INTO kr_shelves VALUES ('A', 'north'), ('B', 'caf\u00e9');
INSERT INTO kr_books (isbn, title, shelf, cover, flags, mood, tags, price, weight, far, day, seen, years, options)
  VALUES ('1', 'Tides \U0001f319 at https://library.example', 'A', x'00ff27', b'100000000001', 'wild', 'a,b', 1.250,
   0.1, 1e-300, '0000-00-00', '2026-03-29 02:30:00', 2026, '{"home": "https:\\\\/\\\\/library.example"}'),
  ('2', '100%% rain', 'B', NULL, NULL, NULL, '', NULL, 16777216.5, NULL, '2026-02-00', NULL, NULL, NULL);
INSERT INTO kr_loans (since) VALUES ('2026-01-01 00:00:00.123456');
INSERT INTO kr_loan_items VALUES (1, 1, NULL);
INSERT INTO kr_hashes VALUES (x'00ff00ff', 'Abc'), (x'deadbeef', 'abc');
INSERT INTO kr_scribbles VALUES ('x'), ('x');
INSERT INTO kr_old VALUES (1)
"""


class LibraryTest(SiteTest):
    """A lending library in a database of its own."""

    def setUp(self) -> None:
        super().setUp()
        self.server = self.which()
        self.live_name = self.server.new_database()
        self.sql(self.live_name, SCHEMA)
        self.site = self.folder / "live"
        self.site.mkdir()
        (self.site / "nostos.toml").write_text(
            f'editors = ["*"]\n[site]\nname = "library"\nurl = "https://library.example"\nprefix = "kr_"\n'
            f'database = "mysql://live:${{LIBRARY_PASSWORD}}@/{self.live_name}?unix_socket={self.server.socket}"\n')
        patched = mock.patch.dict("os.environ", LIBRARY_PASSWORD=quote(PASSWORD, safe=""))
        patched.start()
        self.addCleanup(patched.stop)
        self.home = Home(self.folder / "home")

    def which(self) -> MariaDB:
        return mariadb()

    def sql(self, database: str, script: str) -> None:
        self.server.run("SET GLOBAL sql_mode = ''")
        for statement in script.split(";\n"):
            if statement.strip():
                self.server.run(statement.replace("%%", "%"), database=database)

    def clone(self, **options: str) -> str:
        """Clone, and give the database that the copy is in."""
        done = clone(self.home, self.site, "trip", self.folder / "staging", "https://staging.example",
                     CloneOptions(**options))
        return done.voyage.place

    def dump(self, database: str, prefix: str = "kr_") -> dict[str, list[tuple[object, ...]]]:
        names = [str(n) for (n,) in self.server.run("SELECT table_name FROM information_schema.tables WHERE "
                                                    "table_schema=%s ORDER BY 1", database)]
        return {n.removeprefix(prefix): sorted(self.server.run(f"SELECT * FROM `{n}`", database=database), key=repr)
                for n in names if n.startswith(prefix) and not n.endswith(("nostos_unfinished", "nostos_copy"))}


@unittest.skipIf(missing(), missing())
class Library(LibraryTest):
    def test_the_copy_is_equal(self) -> None:
        for number, options in enumerate(({}, {"prefix": "copy_"})):
            with self.subTest(options):
                place = self.clone(**options)
                self.assertEqual(place, self.live_name if options else f"{self.live_name}_trip")
                live, copy = self.dump(self.live_name), self.dump(place, options.get("prefix", "kr_"))
                self.assertEqual(len(live), 8)
                self.assertEqual(repr(copy).count("staging.example"), 3)
                # One address is a letter longer or shorter than the other only where letters are counted.
                self.assertEqual(repr(copy).replace("staging.example", "library.example"), repr(live))
                self.assertIn("${LIBRARY_PASSWORD}", (self.folder / "staging/nostos.toml").read_text())
                with opened(self.home, self.home.read("trip")) as crew:
                    self.assertEqual(compare_voyage(crew)[0].items, {})
                triggers = self.server.run("SELECT count(*) FROM information_schema.triggers "
                                           "WHERE trigger_schema=%s", place)
                self.assertEqual(triggers, [(1 + number,)])
                self.assertEqual(remove(self.home, self.home.read("trip")), [])
        self.clone(prefix="copy_")
        self.sql(self.live_name, "CREATE TABLE copy_of_another_site (id int PRIMARY KEY)")
        left = remove(self.home, self.home.read("trip"))
        self.assertEqual(len(left), 1)
        self.assertIn("copy_of_another_site", left[0])
        self.assertEqual(list(self.dump(self.live_name, "copy_")), ["of_another_site"])
        self.sql(self.live_name, "DROP TABLE copy_of_another_site")
        names = [d for (d,) in self.server.run("SHOW DATABASES")]
        self.assertNotIn(f"{self.live_name}_trip", names)
        self.assertEqual(len(self.dump(self.live_name, "")), 9)  # live's own, and another site's

    def test_what_looks_alike_is_told_apart(self) -> None:
        self.sql(self.live_name, "CREATE TABLE kr_likes (id int AUTO_INCREMENT PRIMARY KEY, a varchar(9), b text "
                                 "COLLATE utf8mb4_general_ci, n int, m int, f float);\nINSERT INTO kr_likes "
                                 "(a, b, n, m, f) SELECT 'ab', CONCAT('c', seq MOD 7), 1, 23, seq "
                                 "FROM seq_1_to_600;\nCREATE TABLE kr_called SELECT id, MOD(id, 7) AS b, n FROM "
                                 "kr_likes;\nALTER TABLE kr_called MODIFY id int AUTO_INCREMENT PRIMARY KEY")
        copy = self.clone()
        for place, at in ((self.live_name, 300), (copy, 540)):
            for number, said in enumerate((
                    "a = 'abc', b = SUBSTR(b, 2)", "a = 'a', b = CONCAT('b', b)", "n = 12, m = 3", "b = UPPER(b)",
                    "a = NULL", "a = ''", "n = NULL, m = 1", "n = 123, m = NULL", "f = f + 0.0001")):
                self.sql(place, f"UPDATE kr_likes SET {said} WHERE id = {at + number}")
            # Two rows exchange what they hold.
            self.sql(place, f"UPDATE kr_likes SET f = {2 * at + 41} - f WHERE id IN ({at + 20}, {at + 21})")
            # A column may be called what a query might call something.
            self.sql(place, f"UPDATE kr_called SET n = 7 WHERE id = {at // 60}")
        with opened(self.home, self.home.read("trip")) as crew:
            rows = {s.name[0] for s in compare_voyage(crew)[0].rows.states.values()}
        self.assertEqual(rows, {"5", "9", *(str(at + n) for at in (300, 540) for n in (*range(9), 20, 21))})

    def test_staging_has_a_user_of_its_own(self) -> None:
        path = self.site / "nostos.toml"
        path.write_text(path.read_text().replace("//live:", "//owner:"))
        place = self.clone()
        voyage = self.home.read("trip")
        staging = recognise(self.folder / "staging")
        self.assertEqual(voyage.user.partition("@")[0], staging.database.url.username)
        record = (self.home.folder("trip") / "voyage.json").read_text()
        self.assertNotIn(str(staging.database.url.password), record)
        own = staging.open()
        self.addCleanup(own.close)
        self.assertEqual(set(own.tables()), {"shelves", "books", "loans", "loan_items", "hashes",
                                               "scribbles", "old"})
        with self.assertRaises(Exception) as caught:
            own.run(f"SELECT * FROM {self.live_name}.kr_books")  # type: ignore[attr-defined]
        self.assertIn("denied", str(caught.exception))
        self.sql(place, "UPDATE kr_hashes SET note = 'new' WHERE note = 'abc'")
        with opened(self.home, voyage) as crew:
            self.assertTrue(all(line.holds for line in merge(self.home, crew, prepare(crew)).ledger))
        self.assertEqual(remove(self.home, voyage), [])
        user = voyage.user.partition("@")[0]
        self.assertTrue(user.startswith("nostos"))
        self.assertEqual(self.server.run(f"SELECT user FROM mysql.user WHERE user = '{user}'"), [])

    def test_another_server(self) -> None:
        other = mariadb(2)
        place = other.new_database()
        self.clone(database=f"mysql://live:{quote(PASSWORD, safe='')}@/{place}?unix_socket={other.socket}")
        rows = repr(sorted(map(repr, other.run("SELECT * FROM kr_books", database=place))))
        self.assertEqual(rows.replace("staging.example", "library.example"),
                         repr(sorted(map(repr, self.server.run("SELECT * FROM kr_books", database=self.live_name)))))
        other.run("INSERT INTO kr_loans (since) VALUES ('2026-02-03')", database=place)
        self.sql(self.live_name, "INSERT INTO kr_loans (since) VALUES ('2026-02-02')")
        with opened(self.home, self.home.read("trip")) as crew:
            self.assertTrue(all(line.holds for line in merge(self.home, crew, prepare(crew)).ledger))
        days = [str(d)[:10] for (d,) in self.server.run("SELECT since FROM kr_loans ORDER BY id",
                                                        database=self.live_name)]
        self.assertEqual(days, ["2026-01-01", "2026-02-02", "2026-02-03"])
        self.assertEqual(remove(self.home, self.home.read("trip")), [])
        self.assertEqual(other.run("SHOW TABLES", database=place), [])

    def test_places_that_are_taken(self) -> None:
        with self.assertRaisesRegex(SiteError, "live's own database"):
            self.clone(prefix="kr_")
        with self.assertRaisesRegex(SiteError, "tables in .* already"):
            self.clone(prefix="other_")
        self.sql(self.live_name, f"CREATE TABLE kr_{'x' * 50} (id int PRIMARY KEY)")
        with self.assertRaisesRegex(SiteError, "more than 64 characters"):
            self.clone(prefix="a_longer_prefix_")
        self.assertEqual(self.dump(self.live_name, "a_longer_"), {})
        self.assertFalse((self.folder / "staging").exists())

    def test_loans_come_home_under_new_ids(self) -> None:
        staging = self.clone()
        self.sql(staging, """
            INSERT INTO kr_shelves VALUES ('C', 'attic');
            INSERT INTO kr_books (isbn, title, shelf, sequel, flags, far)
              VALUES ('3', 'At https://staging.example', 'C', 1, b'11', 0.1);
            INSERT INTO kr_books (isbn, title, shelf, sequel) VALUES ('4', 'Last', 'C', 3);
            INSERT INTO kr_loans (since) VALUES (NULL);
            INSERT INTO kr_loan_items VALUES (2, 4, NULL);
            UPDATE kr_books SET weight = 0.3, price = 2 WHERE id = 1;
            ALTER TABLE kr_books ADD COLUMN pages int NOT NULL DEFAULT 7, ADD INDEX by_title (title(20));
            UPDATE kr_books SET pages = 300 WHERE id = 2;
            ALTER TABLE kr_books ADD COLUMN kind text NOT NULL;
            UPDATE kr_books SET kind = 'it''s';
            ALTER TABLE kr_loans ADD COLUMN share decimal(5,2) NOT NULL,
              ADD COLUMN day date NOT NULL, ADD COLUMN sort enum('it''s', 'b') NOT NULL, ADD COLUMN far float NOT NULL,
              ADD COLUMN raw varbinary(9) NOT NULL, ADD COLUMN flag bit(9) NOT NULL, ADD COLUMN at time NOT NULL;
            CREATE TABLE kr_desks (id int AUTO_INCREMENT PRIMARY KEY, shelf varchar(9) CHARACTER SET latin1,
              FOREIGN KEY (shelf) REFERENCES kr_shelves (code));
            INSERT INTO kr_desks (shelf) VALUES ('C')""")
        self.sql(self.live_name, """
            INSERT INTO kr_books (isbn, title) VALUES ('7', 'Rain'), ('8', 'Snow'), ('9', 'Hail');
            INSERT INTO kr_loans (since) VALUES (NULL), (NULL);
            INSERT INTO kr_loan_items VALUES (2, 3, NULL), (2, 4, '2026-05-05');
            UPDATE kr_books SET shelf = 'B' WHERE id = 1""")
        before = self.dump(self.live_name)
        with opened(self.home, self.home.read("trip")) as crew:
            self.assertNotIn("loans/1", compare_voyage(crew)[0].items)
            result = merge(self.home, crew, prepare(crew))
            self.assertTrue(all(line.holds for line in result.ledger))
            self.assertEqual([i for i in compare_voyage(crew)[0].items.values() if i.goes_home], [])
        after = self.dump(self.live_name)
        self.assertLessEqual(set(before["loan_items"]), set(after["loan_items"]))
        self.assertEqual(self.server.run(
            "SELECT b.isbn, s.isbn, s.title, s.flags, b.shelf, b.pages FROM kr_loan_items "
            "JOIN kr_books b ON b.id = book JOIN kr_books s ON s.id = b.sequel", database=self.live_name),
            [("4", "3", "At https://library.example", b"\0\x03", "C", 7)])
        self.assertEqual(self.server.run("SELECT shelf, price, weight = CAST(0.3 AS FLOAT), pages FROM kr_books "
                                         "ORDER BY id LIMIT 2", database=self.live_name)[1][3], 300)
        self.assertEqual(len(after["desks"]), 1)
        self.assertEqual(self.server.run("SELECT DISTINCT kind FROM kr_books", database=self.live_name), [("it's",)])
        self.assertEqual(self.server.run("SELECT DISTINCT share + 0, sort FROM kr_loans", database=self.live_name),
                         [(0, "it's")])

    def test_schemas_change_and_drop(self) -> None:
        """Wider columns and new unique keys go home; drops when they are named; a refused merge takes changes back."""
        staging = self.clone()
        self.sql(staging, """
            ALTER TABLE kr_shelves MODIFY room varchar(90) CHARACTER SET latin1 DEFAULT 'none';
            ALTER TABLE kr_hashes DROP COLUMN note, ADD COLUMN more int DEFAULT 3;
            DROP TABLE kr_scribbles;
            ALTER TABLE kr_books MODIFY price decimal(7,3), ADD UNIQUE KEY by_day (day, seen);
            INSERT INTO kr_loans (since) VALUES ('2026-03-03')""")
        self.sql(self.live_name, "INSERT INTO kr_hashes VALUES (x'00000001', NULL)")
        with opened(self.home, self.home.read("trip")) as crew:
            homeward = {i.id: i.careful for i in compare_voyage(crew)[0].items.values() if i.schema}
            self.assertEqual(homeward, {
                "column/shelves.room": False, "column/hashes.note": True, "column/hashes.more": False,
                "table/scribbles": True, "column/books.price": True, "index/by_day": False})
            self.sql(self.live_name, "CREATE TRIGGER kr_no BEFORE INSERT ON kr_loans FOR EACH ROW "
                                     "SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'not today'")
            before = self.server.run("SHOW CREATE TABLE kr_shelves", database=self.live_name)
            scribbles = [r[0] for r in self.dump(self.live_name)["scribbles"]]
            with self.assertRaisesRegex(MergeRefused, "not today"):
                merge(self.home, crew, prepare(crew))
            self.assertEqual(self.server.run("SHOW CREATE TABLE kr_shelves", database=self.live_name), before)
            self.sql(self.live_name, "DROP TRIGGER kr_no")
            merge(self.home, crew, prepare(crew, Choice(("*", "column/hashes.note", "table/scribbles"))))
            self.assertEqual(set(prepare(crew).comparison.items), {"hashes/" + repr(b"\0\0\0\1"), "column/books.price"})
        there = self.server.run("SHOW CREATE TABLE kr_shelves", database=self.live_name)
        self.assertIn("varchar(90)", repr(there))
        self.assertEqual(self.server.run("SELECT more FROM kr_hashes", database=self.live_name), [(3,)] * 3)
        self.assertNotIn("scribbles", self.dump(self.live_name))
        with opened(self.home, self.home.read("trip")) as crew:
            merge(self.home, crew, prepare_undo(self.home, crew, to_take_back(self.home, "trip", None), schema=True))
        self.assertEqual([r[0] for r in self.dump(self.live_name)["scribbles"]], scribbles)
        self.assertNotIn("more", repr(self.server.run("SHOW CREATE TABLE kr_hashes", database=self.live_name)))
        note = repr(self.server.run("SELECT note FROM kr_hashes WHERE note IS NOT NULL ORDER BY BINARY note",
                                    database=self.live_name))
        self.assertEqual(note, "[('Abc',), ('abc',)]")

    def test_a_refused_row_takes_everything_back(self) -> None:
        staging = self.clone()
        self.sql(staging, "INSERT INTO kr_loans (since) VALUES (NULL);\nALTER TABLE kr_loans ADD COLUMN note text;\n"
                          "UPDATE kr_loans SET note='x';\nCREATE TABLE kr_new (id int PRIMARY KEY)")
        self.sql(self.live_name, "CREATE TRIGGER kr_no BEFORE INSERT ON kr_loans FOR EACH ROW "
                                 "SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'not today'")
        before = self.dump(self.live_name)
        with opened(self.home, self.home.read("trip")) as crew, self.assertRaisesRegex(MergeRefused, "not today"):
            merge(self.home, crew, prepare(crew))
        after = self.dump(self.live_name)
        after.pop("nostos_merges", None)
        self.assertEqual(before, after)

    def test_what_live_gained_by_itself_is_not_taken_back(self) -> None:
        """Live gains the very index that staging has, and then the merge is refused: the index stays."""
        staging = self.clone()
        self.sql(staging, "ALTER TABLE kr_loans ADD INDEX by_since (since);\n"
                          "INSERT INTO kr_loans (since) VALUES (NULL)")
        with opened(self.home, self.home.read("trip")) as crew:
            prepared = prepare(crew)
            self.sql(self.live_name, "ALTER TABLE kr_loans ADD INDEX by_since (since);\n"
                                     "CREATE TRIGGER kr_no BEFORE INSERT ON kr_loans FOR EACH ROW "
                                     "SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'not today'")
            with self.assertRaisesRegex(MergeRefused, "not today"):
                merge(self.home, crew, prepared)
        self.assertEqual(len(self.server.run("SHOW INDEX FROM kr_loans WHERE Key_name = 'by_since'",
                                             database=self.live_name)), 1)

    def test_two_servers_on_one_host_are_two(self) -> None:
        """What retire drops must never be looked for on live's server when staging is on another."""
        urls = ("mysql://u@h:3306/a", "mysql://other@h:3306/b", "mysql://u@h:3307/a", "mysql://u@h:3306/a?unix_socket=/s")
        one, same, port, socket = (locate(u, self.folder) for u in urls)
        self.assertTrue(same.on_server_of(one))
        self.assertFalse(port.on_server_of(one) or socket.on_server_of(one))

    def test_live_moves_between_looking_and_committing(self) -> None:
        """The row is edited on live after the merge's transaction has begun to read: seen, and nothing overwritten."""
        staging = self.clone()
        self.sql(staging, "UPDATE kr_hashes SET note = 'staging' WHERE note = 'Abc'")
        begin = Ledger.begin
        edits = iter(["live edit"])

        def moved(ledger: Ledger, *args: object) -> object:
            found = begin(ledger, *args)  # type: ignore[arg-type]
            for edit in edits:
                self.server.run("UPDATE kr_hashes SET note = %s WHERE note = 'Abc'", edit, database=self.live_name)
            return found

        with mock.patch.object(Ledger, "begin", moved), opened(self.home, self.home.read("trip")) as crew:
            prepared = prepare(crew)
            with self.assertRaises(TargetMoved):
                merge(self.home, crew, prepared)
        self.assertIn("live edit", repr(self.dump(self.live_name)["hashes"]))

    def test_live_builds_on_what_is_being_removed(self) -> None:
        """A loan arrives after the merge's transaction has begun to read, and before the book is removed: seen."""
        self.sql(self.live_name, "ALTER TABLE kr_loan_items DROP FOREIGN KEY kr_loan_items_ibfk_2")
        path = self.site / "nostos.toml"
        (self.site / "library.toml").write_text(
            '[profile]\nname = "library"\ntitle = "Library"\n[[reference]]\ncolumn = "loan_items.book"\nto = "books"\n')
        path.write_text(path.read_text() + 'profile = "library.toml"\n')
        staging = self.clone()
        self.sql(staging, "DELETE FROM kr_books WHERE id = 2")
        still, loans = Removals.still, iter([2])

        def lent(removals: Removals, *args: object) -> object:
            for book in loans:
                self.server.run("INSERT INTO kr_loan_items VALUES (1, %s, NULL)", book, database=self.live_name)
            return still(removals, *args)  # type: ignore[arg-type]

        with mock.patch.object(Removals, "still", lent), opened(self.home, self.home.read("trip")) as crew:
            prepared = prepare(crew)
            self.assertEqual([i.id for i in prepared.plan.selection.items], ["books/2"])
            with self.assertRaises(TargetMoved):
                merge(self.home, crew, prepared)
        self.assertEqual(len(self.dump(self.live_name)["books"]), 2)

    def test_the_connection_breaks(self) -> None:
        """Before, in the moment of, and after the commit; told or not told of it; and at each statement before."""
        real = MysqlDatabase.run
        hit: list[str] = []

        def broken(at: int, after: bool) -> Callable[..., object]:
            """The statement of this number (0: the commit) breaks the connection, before or after it is carried out."""
            calls = iter(range(1, 100_000))

            def run(database: MysqlDatabase, sql: str, values: Sequence[object] = ()) -> object:
                writes = not sql.startswith(("SELECT", "SHOW", "SET SESSION"))
                if (writes and next(calls) == at) if at else (sql == "COMMIT" and not hit):
                    if after:
                        real(database, sql, values)  # type: ignore[arg-type]
                    hit.append(sql)
                    database._connection.close()
                    raise database.driver.OperationalError(2013, "Lost connection to server during query")
                return real(database, sql, values)  # type: ignore[arg-type]

            return run

        for at, after in ((0, False), (0, True), *((n, after) for n in (1, 2, 3, 4) for after in (False, True))):
            with self.subTest(at=at, after=after):
                hit.clear()
                staging = self.clone()
                self.sql(staging, "ALTER TABLE kr_loans ADD COLUMN note text;\n"
                                  "INSERT INTO kr_loans (since, note) VALUES (NULL, 'new')")
                (self.folder / "staging/new.txt").write_text("x")
                with opened(self.home, self.home.read("trip")) as crew:
                    prepared = prepare(crew)
                    tried_again = False
                    with mock.patch.object(MysqlDatabase, "run", broken(at, after)), suppress(NostosError):
                        tried_again = bool(merge(self.home, crew, prepared).id)
                recover(self.home)
                table = repr(self.server.run("SHOW CREATE TABLE kr_loans", database=self.live_name))
                there = "note" in table and len(self.server.run("SELECT 1 FROM kr_loans WHERE note='new'",
                                                                database=self.live_name))
                self.assertEqual(bool(there), "note" in table)
                self.assertEqual((self.site / "new.txt").exists(), bool(there))
                self.assertEqual(len(hit), 1)
                self.assertEqual(bool(there), tried_again or (after and hit == ["COMMIT"]))
                with opened(self.home, self.home.read("trip")) as crew:
                    if not there:
                        merge(self.home, crew, prepare(crew))
                    self.assertEqual(list(compare_voyage(crew)[1]), [])
                remove(self.home, self.home.read("trip"))
                (self.site / "new.txt").unlink()
                self.sql(self.live_name,
                         "DELETE FROM kr_loans WHERE note='new';\nALTER TABLE kr_loans DROP COLUMN note")

    def test_killed_at_its_steps_and_recovered(self) -> None:
        """A merge with schema steps, which this server cannot take back by itself, killed at every fifth point."""
        ended = set()
        for number in range(2, 200, 5):
            staging = self.clone()
            self.sql(staging, "ALTER TABLE kr_loans ADD COLUMN note text, ADD INDEX by_since (since);\n"
                              "ALTER TABLE kr_shelves MODIFY room varchar(90) CHARACTER SET latin1;\n"
                              "CREATE TABLE kr_desks (id int AUTO_INCREMENT PRIMARY KEY, loan bigint);\n"
                              "INSERT INTO kr_loans (since, note) VALUES (NULL, 'new');\n"
                              "INSERT INTO kr_desks (loan) VALUES (2)")
            self.sql(self.live_name, "INSERT INTO kr_loans (since) VALUES ('2026-01-02')")
            definitions = self.definitions()
            before = self.dump(self.live_name)

            def work() -> None:
                with opened(self.home, self.home.read("trip")) as crew:
                    merge(self.home, crew, prepare(crew))

            points = killed(work, number)
            done = recover(self.home)
            after = self.dump(self.live_name)
            after.pop("nostos_merges", None)
            before.pop("nostos_merges", None)
            if points is None and after == before:
                ended.add("before")
                self.assertEqual(self.definitions(), definitions, number)
                work()
            elif points is None:
                ended.add("after")
                self.assertEqual(len(after["desks"]), 1, (number, done))
            with opened(self.home, self.home.read("trip")) as crew:
                self.assertEqual(list(compare_voyage(crew)[1]), [], number)
            self.assertEqual(self.server.run("SELECT COUNT(*), SUM(note = 'new') FROM kr_loans",
                                             database=self.live_name), [(3, 1)])
            self.assertEqual(remove(self.home, self.home.read("trip")), [])
            self.server.run(f"DROP DATABASE {self.live_name}")
            self.server.run(f"CREATE DATABASE {self.live_name} CHARACTER SET utf8mb4")
            self.sql(self.live_name, SCHEMA)
            if points is not None:
                break
        self.assertEqual(ended, {"before", "after"})

    def definitions(self) -> list[str]:
        """How live's tables are defined; a number that was given out is not given out again, and does not count."""
        names = [str(n) for (n,) in self.server.run("SHOW TABLES LIKE 'kr%'", database=self.live_name)
                 if "nostos" not in str(n)]
        return [re.sub(r"AUTO_INCREMENT=\d+", "", repr(self.server.run(f"SHOW CREATE TABLE {n}",
                                                                       database=self.live_name))) for n in names]

    def test_survey_tells_rights_engines_and_character_sets(self) -> None:
        def found() -> dict[str, str]:
            return {f.what: str(f.whose) for f in survey(recognise(self.site)).findings}

        self.assertEqual(found(), {
            "The table scribbles has no key.": "the extension's author",
            "The table kr_old is kept by MyISAM, which has no transactions and no snapshots.": "you",
            "The character sets of kr_books, kr_shelves cannot hold every character.": "you",
            "0 places that no profile names point at rows of other tables, and 1 may.": "you",
            "No profile fits this site.": "you"})
        self.server.run("CREATE USER poor@localhost IDENTIFIED BY 'p'")
        self.server.run(f"GRANT SELECT, INSERT ON {self.live_name}.* TO poor@localhost")
        path = self.site / "nostos.toml"
        path.write_text(path.read_text().replace("live:${LIBRARY_PASSWORD}", "poor:p"))
        told = found()
        self.assertEqual(told[f"The database user may not UPDATE, DELETE in {self.live_name}."], "the host")
        self.assertIn("The database user may not make new databases.", told)
        self.server.run("DROP USER poor@localhost")

    def test_a_wrong_password_is_not_repeated(self) -> None:
        path = self.site / "nostos.toml"
        path.write_text(path.read_text().replace("${LIBRARY_PASSWORD}", "s3cret"))
        with self.assertRaises(SiteError) as caught:
            self.clone()
        self.assertIn("does not accept", caught.exception.what)
        self.assertNotIn("s3cret", repr(caught.exception.args) + caught.exception.next_step)


