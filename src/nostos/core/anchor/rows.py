"""The rows of an anchor: what it holds of each side's, and which of a side's rows have moved since."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import lru_cache
from pathlib import Path

import msgspec

from nostos.core.anchor.names import Keys, Side
from nostos.core.anchor.records import _ASIDE, _OF_TABLES, AnchorRecords
from nostos.core.database.protocol import Block, Database
from nostos.core.database.rows.digests import add_digests, block_of
from nostos.core.database.rows.row_bytes import row_form
from nostos.core.database.schema import Key, Row, Table, Value, in_todays_names
from nostos.core.records import dataclass
from nostos.core.values.packed import pack, squeeze, unpack, unsqueeze

SEED = "fingerprint_seed"  # a fact: what the fingerprints of this anchor begin with
_FEW = 500  # blocks whose rows are looked at one by one, before all are added up
_BLOCKS = 1024  # that a side is asked for at once: of a table by buckets, each question reads all of it
_HELD_BYTES = 16_000_000  # of blocks, as they are in the base, that are kept taken apart
ALWAYS_LOOK = b""  # a row digest that equals none: the row is fetched and compared each time


@dataclass(frozen=True, slots=True)
class RowMove:
    """A row of one side that is not as the anchor knew it. row: None when it is gone. born: it was not there. of_base:
    it is the common ancestor's row of this key, whatever the side calls by it now."""

    key: Key
    row: Row | None
    born: bool
    digest: bytes | None = None
    of_base: bool = False


@lru_cache(maxsize=512)
def _decoded(definition: bytes) -> Table:
    return msgspec.json.decode(in_todays_names(definition), type=Table)


class AnchorRows(AnchorRecords):
    """What the anchor knows of schemas and rows."""

    def __init__(self, path: Path) -> None:
        super().__init__(path)
        # An anchor of before there were fingerprints has no place for them.
        self._prints = bool(self._file.execute("SELECT 1 FROM sqlite_master WHERE name='fingerprints'").fetchone())
        self._unadded: set[tuple[Side, str, int]] | None = None
        self._row_digests = lru_cache(maxsize=256)(self.known_rows)
        self._base_blocks: dict[tuple[str, int], tuple[int, dict[Key, Row]]] = {}  # with their bytes; used last, last

    def forget_read(self) -> None:
        self._row_digests.cache_clear()
        self._base_blocks.clear()

    def remember_table(self, side: Side, table: Table) -> None:
        """Keep a table's definition, as one side has it from now on."""
        self._file.execute("INSERT OR REPLACE INTO tables VALUES (?, ?, ?)",
                           (side, table.name, msgspec.json.encode(table)))

    def tables(self, side: Side) -> dict[str, Table]:
        """The tables of a side as the anchor knows them."""
        rows = self._file.execute("SELECT name, definition FROM tables WHERE side=? AND instr(name, ?)=0",
                                  (side, _ASIDE))
        return {n: msgspec.json.decode(in_todays_names(d), type=Table) for n, d in rows}

    def _definition(self, side: Side, name: str) -> Table | None:
        row = self._file.execute("SELECT definition FROM tables WHERE side=? AND name=?", (side, name)).fetchone()
        return _decoded(row[0]) if row else None

    def add_base(self, table: str, number: int, payloads: list[bytes]) -> None:
        """Add rows of live's, each as bytes in its table's form, to what is known of a block."""
        self._file.execute(
            "INSERT INTO base SELECT ?, ?, COALESCE(MAX(part), 0) + 1, ? FROM base WHERE tbl=? AND number=?",
            (table, number, squeeze(payloads), table, number))

    def keep_fingerprints(self, side: Side, table: str, prints: Mapping[int, Block]) -> None:
        """The fingerprints that a side's blocks have as long as they are as they are known here."""
        self._file.executemany("INSERT OR REPLACE INTO fingerprints VALUES (?, ?, ?, ?, ?)", (
            (side, table, number, block.count, block.digest.to_bytes(8)) for number, block in prints.items()))

    def fingerprints(self, side: Side, table: str) -> dict[int, Block]:
        """What `keep_fingerprints` was given, but for blocks of which something else was learned since."""
        rows = self._file.execute("SELECT number, count, print FROM fingerprints WHERE side=? AND tbl=?",
                                   (side, table)) if self._prints else ()
        return {number: Block(count, int.from_bytes(made)) for number, count, made in rows}

    def has_fingerprints(self, side: Side, table: str) -> bool:
        """Whether the fingerprint of any of a table's blocks is known."""
        return self._prints and self._file.execute("SELECT 1 FROM fingerprints WHERE side=? AND tbl=? LIMIT 1",
                                                   (side, table)).fetchone() is not None

    def keep_total(self, side: Side, table: str, number: int, block: Block | None) -> None:
        """What a side's block adds up to; None: a row in it has to be looked at in any case."""
        if self._prints:
            self._file.execute("DELETE FROM fingerprints WHERE side=? AND tbl=? AND number=?", (side, table, number))
        if block is not None and not block.count:
            self._file.execute("DELETE FROM blocks WHERE side=? AND tbl=? AND number=?", (side, table, number))
            return
        self._file.execute("INSERT OR REPLACE INTO blocks VALUES (?, ?, ?, ?, ?)",
                           (side, table, number, block.count if block else 0,
                            block.digest.to_bytes(8) if block else None))

    def set_apart(self, side: Side, table: str, key: Key, digest: bytes | None) -> None:
        """A side's row that is not as in the base, without adding up its block. None: there is no such row."""
        self.set_many_apart(side, table, [(key, digest)])

    def set_many_apart(self, side: Side, table: str, rows: Sequence[tuple[Key, bytes | None]]) -> None:
        """`set_apart` of many rows, in their order."""
        packed = [(side, table, block_of(key), pack(list(key)), digest) for key, digest in rows]
        for _, _, number, key, digest in packed:
            self._remember("apart", [str(side), table, number, key], pack([digest]))
        self._file.executemany("INSERT OR REPLACE INTO apart VALUES (?, ?, ?, ?, ?)", packed)

    def known_rows(self, side: Side, table: str, number: int) -> dict[Key, bytes]:
        """The keys and digests of a side's block."""
        definition = self._definition(Side.LIVE, table)
        rows: dict[Key, bytes] = {}
        if definition is not None and definition.key:
            form = row_form(definition, definition.stored)
            places = [definition.stored.index(k) for k in definition.key]
            for payload in self._payloads(table, number):
                values = form.read(payload)
                rows[tuple(values[p] for p in places)] = form.digest(payload)
        for key, digest in self._file.execute("SELECT key, digest FROM apart WHERE side=? AND tbl=? AND number=?",
                                              (side, table, number)):
            if digest is None:
                rows.pop(tuple(unpack(key)), None)
            else:
                rows[tuple(unpack(key))] = digest
        return rows

    def _payloads(self, table: str, number: int) -> Iterator[bytes]:
        for (part,) in self._file.execute("SELECT rows FROM base WHERE tbl=? AND number=? ORDER BY part",
                                          (table, number)):
            yield from unsqueeze(part)

    def _base_block(self, table: str, number: int) -> dict[Key, Row]:
        held = self._base_blocks.pop((table, number), None)
        if held is None:
            held = self._read_base_block(table, number)
            room = _HELD_BYTES - held[0] - sum(size for size, _ in self._base_blocks.values())
            for oldest in list(self._base_blocks) if room < 0 else ():
                room += self._base_blocks.pop(oldest)[0]
                if room >= 0:
                    break
        self._base_blocks[table, number] = held
        return held[1]

    def _read_base_block(self, table: str, number: int) -> tuple[int, dict[Key, Row]]:
        definition = self._definition(Side.LIVE, table)
        if definition is None or not definition.key:
            return 0, {}
        form = row_form(definition, definition.stored)
        payloads = list(self._payloads(table, number))
        rows = (dict(zip(definition.stored, form.read(p), strict=True)) for p in payloads)
        return sum(map(len, payloads)), {definition.key_of(row): row for row in rows}

    def blocks(self, side: Side, table: str) -> dict[int, Block | None]:
        """A side's blocks as the anchor knows them; None where a row in it has to be looked at in any case."""
        return {n: Block(count, int.from_bytes(total)) if total is not None else None for n, count, total in
                self._file.execute("SELECT number, count, total FROM blocks WHERE side=? AND tbl=?", (side, table))}

    def has(self, side: Side, table: str, key: Value) -> bool:
        """Whether a side had a row with this surrogate key."""
        return (key,) in self._row_digests(side, table, block_of((key,)))

    def base_row(self, table: str, key: Key) -> Row | None:
        """The common ancestor of a row, by live's key at the time it was settled; as live writes it."""
        row = self._file.execute("SELECT row FROM advanced WHERE tbl=? AND key=?",
                                   (table, pack(list(key)))).fetchone()
        if row:
            return None if row[0] is None else unpack(row[0])
        return self._base_block(table, block_of(key)).get(key)

    def moves(self, side: Side, database: Database, table: Table, now: dict[int, Block] | None = None,
              prints: dict[int, Block] | None = None) -> Iterator[RowMove]:
        """Which rows of a side's table are not as the anchor knew them. now: the table's blocks, if they are known.
        prints: their fingerprints, if they are known."""
        known = self._definition(side, table.name)
        columns = known.stored if known else table.stored
        if known and any(table.column(c) is None for c in columns):
            yield from self._moves_without(side, database, table, known)
            return
        differing = self._unlike(side, database, table, columns, now, prints)
        seen: set[Key] = set()
        if differing:
            missing = {key for n in differing for key in self._row_digests(side, table.name, n)}
            moved: dict[Key, tuple[bool, bytes]] = {}
            for key, digest in database.row_digests(table, columns, differing):
                known_as = self._row_digests(side, table.name, block_of(key)).get(key)
                missing.discard(key)
                if known_as != digest:
                    moved[key] = (known_as is None, digest)
            for row in database.fetch_many(table, list(moved)):
                key = table.key_of(row)
                seen.add(key)
                yield RowMove(key, row, *moved[key])
            for key in sorted(missing, key=repr):
                yield RowMove(key, None, born=False)
        if known:
            gained = [c for c in table.columns if not c.generated and known.column(c.name) is None]
            if gained:
                for row in database.rows_where_set(table, gained):
                    if table.key_of(row) not in seen:
                        seen.add(table.key_of(row))
                        yield RowMove(table.key_of(row), row, born=False)
                yield from self._emptied(side, database, table, [c.name for c in gained], seen)

    def given_away(self, keys: Keys, table: Table) -> Iterator[RowMove]:
        """The removals of rows whose keys a side has since given to others, which came home: nothing of these moved.
        keys: the side's."""
        for key in keys.taken(table.name):
            if self.base_row(table.name, (key,)) is not None:
                yield RowMove((key,), None, born=False, of_base=True)

    def _emptied(self, side: Side, database: Database, table: Table, gained: Sequence[str], seen: Collection[Key]
                 ) -> Iterator[RowMove]:
        """Rows that are at the default in a column which came home, and were not when they were settled: digests are
        made over the columns of the clone alone."""
        settled: dict[Key, Row] = {}
        here, remaining = self.keys(side), self.keys(Side.LIVE)
        for packed, payload in self._file.execute("SELECT key, row FROM advanced WHERE tbl=? AND row IS NOT NULL",
                                                  (table.name,)):
            row, key = unpack(payload), tuple(unpack(packed))
            if any(row.get(c) is not None for c in gained):
                if table.surrogate:
                    key = (here.key(table.name, remaining.name(table.name, key[0])),)
                if key not in seen and key != (None,):
                    settled[key] = row
        for row in database.fetch_many(table, list(settled)):
            known = settled[table.key_of(row)]
            if any(c in known and row[c] != known[c] for c in gained):
                yield RowMove(table.key_of(row), row, born=False)

    def _unlike(self, side: Side, database: Database, table: Table, columns: tuple[str, ...],
                now: dict[int, Block] | None, prints: dict[int, Block] | None) -> list[int]:
        """The blocks of a table in which rows may be other than they were known."""
        then = self.blocks(side, table.name)
        if prints is not None:
            were = self.fingerprints(side, table.name)
            unlike = sorted(n for n in prints.keys() | then.keys() if n not in were or prints.get(n) != were[n])
            if len(unlike) <= max(_FEW, len(then) // 8):
                return unlike
        if now is None:
            now = database.sums_of([(table, columns)])[0]
        return sorted(n for n in now.keys() | then.keys() if now.get(n) != then.get(n))

    def _moves_without(self, side: Side, database: Database, table: Table, known: Table) -> Iterator[RowMove]:
        """Which rows moved where the side dropped columns: digests over the rest are made from the base anew."""
        rest = tuple(c for c in known.stored if table.column(c) is not None)
        places = [known.stored.index(c) for c in rest]
        whole, part = row_form(known, known.stored), row_form(known, rest)
        apart = {tuple(unpack(k)) for (k,) in self._file.execute("SELECT key FROM apart WHERE side=? AND tbl=?",
                                                                 (side, table.name))}
        then = {number for (number,) in self._file.execute("SELECT number FROM blocks WHERE side=? AND tbl=?",
                                                           (side, table.name))}
        now = set(database.blocks(table, table.key))
        every = sorted(then | now)
        for at in range(0, len(every), _BLOCKS):
            numbers = every[at:at + _BLOCKS]
            expected: dict[Key, bytes] = {}
            for number in numbers:
                expected |= dict.fromkeys(self.known_rows(side, table.name, number), ALWAYS_LOOK)
                for payload in self._payloads(table.name, number):
                    values = whole.read(payload)
                    key = known.key_of(dict(zip(known.stored, values, strict=True)))
                    if key in expected and key not in apart:
                        expected[key] = part.digest(part.write([values[p] for p in places]))
            row_digests = dict(database.row_digests(table, rest, numbers))
            moved = [k for k, d in row_digests.items() if expected.get(k) != d]
            for row in database.fetch_many(table, moved):
                yield RowMove(table.key_of(row), row, table.key_of(row) not in expected, row_digests[table.key_of(row)])
            for key in sorted(expected.keys() - row_digests.keys(), key=repr):
                yield RowMove(key, None, born=False)

    def forget_table(self, name: str) -> None:
        """The table is gone on both sides. While changes are recorded, what is known of it is put aside."""
        if self._prints:
            self._file.execute("DELETE FROM fingerprints WHERE tbl=?", (name,))
        for table, column in _OF_TABLES:
            if self._operation:
                self._file.execute(f"UPDATE {table} SET {column}=? WHERE {column}=?",
                                   (f"{name}{_ASIDE}{self._operation}", name))
            else:
                self._file.execute(f"DELETE FROM {table} WHERE {column}=?", (name,))

    def advance_row(self, table: str, key: Key, row: Row | None) -> None:
        """Set the common ancestor of a row, by live's key; None: there is no such row any more."""
        packed = None if row is None else pack(row)
        self._remember("advanced", [table, pack(list(key))], pack([packed]))
        self._file.execute("INSERT OR REPLACE INTO advanced VALUES (?, ?, ?)", (table, pack(list(key)), packed))

    def set_digest(self, side: Side, table: str, key: Key, digest: bytes | None) -> None:
        """What a side's row counts as unchanged by: its digest; ALWAYS_LOOK; None: there is no such row."""
        self.set_apart(side, table, key, digest)
        if self._unadded is None:
            self._add_up(side, table, block_of(key))
        else:
            self._unadded.add((side, table, block_of(key)))

    @contextmanager
    def adding_up_later(self) -> Iterator[None]:
        """While it lasts, blocks in which digests are set are not added up; each is once, at its end."""
        self._unadded = set()
        try:
            yield
            for side, table, number in self._unadded:
                self._add_up(side, table, number)
        finally:
            self._unadded = None

    def _add_up(self, side: Side, table: str, number: int) -> None:
        rows = self.known_rows(side, table, number)
        doubtful = ALWAYS_LOOK in rows.values()
        self.keep_total(side, table, number, None if doubtful else Block(len(rows), add_digests(0, rows.values())))

    def columns(self, side: Side, table: Table) -> tuple[str, ...]:
        """The columns of a side's table that digests are made over."""
        known = self._definition(side, table.name)
        return (known or table).stored

    def pair(self, side: Side, table: str, key: Value, name: str) -> None:
        """Remember the canonical name of a side's key."""
        self._remember("pairs", [str(side), table, key], pack([name]))
        self._file.execute("INSERT OR REPLACE INTO pairs VALUES (?, ?, ?, ?)", (side, table, key, name))

    def keys(self, side: Side) -> Keys:
        """What the rows of one side are called, by their keys: names for those that have another key than at the
        anchor, or were born since."""
        pairs: dict[str, dict[Value, str]] = {}
        for table, key, name in self._file.execute("SELECT tbl, key, name FROM pairs WHERE side=?", (side,)):
            pairs.setdefault(table, {})[key] = name
        return Keys(pairs, lambda table, key: self.has(side, table, key))
