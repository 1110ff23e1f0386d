"""The anchor: which rows of a side are not as it knew them."""

import sqlite3

from nostos.core.anchor.names import Keys, Side
from nostos.core.anchor.rows import ALWAYS_LOOK
from nostos.core.anchor.store import Anchor
from nostos.core.database.rows.digests import row_digest
from nostos.core.engines.sqlite.connection import SqliteDatabase
from nostos.core.errors import VoyageError
from nostos.core.values.packed import pack, unpack
from tests.support import SiteTest


class Moves(SiteTest):
    def setUp(self) -> None:
        super().setUp()
        path = self.folder / "x.db"
        self.sql = sqlite3.connect(path, isolation_level=None)
        self.addCleanup(self.sql.close)
        self.sql.execute("CREATE TABLE t (id INTEGER PRIMARY KEY, v)")
        self.sql.executemany("INSERT INTO t VALUES (?, ?)", [(n, n) for n in range(-300, 300, 7)])
        self.database = SqliteDatabase(path)
        self.addCleanup(self.database.close)
        self.table = self.database.tables()["t"]
        self.anchor = Anchor.create(self.folder / "anchor.db")
        self.addCleanup(self.anchor.close)
        with self.anchor.changing():
            self.anchor.remember_table(Side.LIVE, self.table)
            for number, payload in self.database.scan_payloads(self.table):
                self.anchor.add_base("t", number, [payload])
            for number, block in self.database.blocks(self.table, ("id", "v")).items():
                self.anchor.keep_total(Side.LIVE, "t", number, block)

    def moves(self) -> set[tuple[object, bool, bool]]:
        table = self.database.tables()["t"]
        return {(m.key[0], m.row is not None, m.born) for m in self.anchor.moves(Side.LIVE, self.database, table)}

    def test_edits_births_and_deaths(self) -> None:
        self.assertEqual(self.moves(), set())
        self.sql.executescript("UPDATE t SET v = '1' WHERE id = 1; DELETE FROM t WHERE id = -300; "
                               "INSERT INTO t VALUES (1000, NULL)")
        self.assertEqual(self.moves(), {(1, True, False), (-300, False, False), (1000, True, True)})

    def test_what_is_settled_is_no_move(self) -> None:
        self.sql.execute("UPDATE t SET v = 'new' WHERE id = 1")
        digest = dict(self.database.row_digests(self.table, ("id", "v")))[1,]
        with self.anchor.changing():
            self.anchor.set_digest(Side.LIVE, "t", (1,), digest)
            self.anchor.set_digest(Side.LIVE, "t", (8,), ALWAYS_LOOK)
        self.assertEqual(self.moves(), {(8, True, False)})
        with self.assertRaises(ZeroDivisionError), self.anchor.changing():
            self.anchor.set_digest(Side.LIVE, "t", (8,), None)
            _ = 1 / 0
        self.assertTrue(self.anchor.has(Side.LIVE, "t", 8))

    def test_a_column_gained_moves_only_rows_that_use_it(self) -> None:
        self.sql.executescript("ALTER TABLE t ADD COLUMN w TEXT DEFAULT 'd'; UPDATE t SET w = 'x' WHERE id = 1")
        self.assertEqual(self.moves(), {(1, True, False)})

    def test_damage_is_told(self) -> None:
        (self.folder / "bad.db").write_bytes(b"not a database at all" * 50)
        for name in ("bad.db", "none.db"):
            with self.assertRaises(VoyageError):
                Anchor(self.folder / name)


class Names(SiteTest):
    def test_keys_and_their_names(self) -> None:
        keys = Keys({"t": {501: "507"}}, lambda table, key: key in (7, 501))
        self.assertEqual([keys.name("t", k) for k in (501, 7, 9)], ["507", "7", "x9"])
        self.assertEqual([keys.key("t", n) for n in ("507", "7", "s9", "x9", "501")], [501, 7, None, 9, None])
        keys.claim("t", 9, "s9")
        self.assertEqual((keys.name("t", 9), keys.key("t", "s9")), ("s9", 9))
        keys.claim("t", 9, "12")
        self.assertEqual((keys.name("t", 9), keys.key("t", "s9"), keys.key("t", "12")), ("12", None, 9))

    def test_values_of_every_kind_are_kept_apart(self) -> None:
        values = [None, 1, 1.0, "1", b"1", "", b"", "\udcff", "é", -(1 << 63), float("inf")]
        self.assertEqual(len({row_digest([v]) for v in values}), len(values))
        self.assertEqual(unpack(pack(values)), values)
