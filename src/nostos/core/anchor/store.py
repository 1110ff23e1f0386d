"""The anchor: what live and staging both were at the clone, and how that has advanced since.

One SQLite file a voyage. It holds the rows themselves, as live had them, in the form that digests are made over,
compressed a block at a time; for each side a digest per block, and the digests of those rows that are not as in the
base; for files their stamps and digests, and the contents of small text files. Whatever merges settle is laid over the
first state row by row.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

import msgspec

from nostos.core.anchor.names import Keys, Side
from nostos.core.database.protocol import Block, Database
from nostos.core.database.rows.digests import add_digests, block_of, pack, squeeze, unpack, unsqueeze
from nostos.core.database.rows.row_bytes import row_form
from nostos.core.database.schema import Key, Row, Table, Value, in_todays_names
from nostos.core.errors import VoyageError
from nostos.core.files.entry import Entry

_SCHEMA = """
CREATE TABLE facts (name TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE tables (side TEXT, name TEXT, definition BLOB NOT NULL, PRIMARY KEY (side, name));
CREATE TABLE base (tbl TEXT, number INTEGER, part INTEGER, rows BLOB NOT NULL, PRIMARY KEY (tbl, number, part))
                   WITHOUT ROWID;
CREATE TABLE blocks (side TEXT, tbl TEXT, number INTEGER, count INTEGER, total BLOB, PRIMARY KEY (side, tbl, number))
                     WITHOUT ROWID;
CREATE TABLE apart (side TEXT, tbl TEXT, number INTEGER, key BLOB, digest BLOB, PRIMARY KEY (side, tbl, number, key))
                    WITHOUT ROWID;
CREATE TABLE advanced (tbl TEXT, key BLOB, row BLOB, PRIMARY KEY (tbl, key)) WITHOUT ROWID;
CREATE TABLE pairs (side TEXT, tbl TEXT, key INTEGER, name TEXT NOT NULL, PRIMARY KEY (side, tbl, key)) WITHOUT ROWID;
CREATE TABLE files (path TEXT PRIMARY KEY, base BLOB, live BLOB, staging BLOB) WITHOUT ROWID;
CREATE TABLE undo (operation TEXT, owner TEXT, what TEXT, place BLOB, old BLOB, new BLOB);
CREATE INDEX undo_by_operation ON undo (operation);
CREATE TABLE texts (digest BLOB PRIMARY KEY, content BLOB NOT NULL) WITHOUT ROWID;
"""
ALWAYS_LOOK = b""  # a row digest that equals none: the row is fetched and compared each time
SMALL_TEXT = 256 * 1024  # bytes


# Where things are kept: how they are read, written and cleared by their place.
_PLACES = {
    "apart": ("SELECT digest FROM apart WHERE side=? AND tbl=? AND number=? AND key=?",
              "INSERT OR REPLACE INTO apart VALUES (?, ?, ?, ?, ?)",
              "DELETE FROM apart WHERE side=? AND tbl=? AND number=? AND key=?"),
    "advanced": ("SELECT row FROM advanced WHERE tbl=? AND key=?", "INSERT OR REPLACE INTO advanced VALUES (?, ?, ?)",
                 "DELETE FROM advanced WHERE tbl=? AND key=?"),
    "pairs": ("SELECT name FROM pairs WHERE side=? AND tbl=? AND key=?",
              "INSERT OR REPLACE INTO pairs VALUES (?, ?, ?, ?)", "DELETE FROM pairs WHERE side=? AND tbl=? AND key=?"),
    **{column: (f"SELECT {column} FROM files WHERE path=?",
                f"INSERT INTO files (path, {column}) VALUES (?, ?) "
                f"ON CONFLICT (path) DO UPDATE SET {column}=excluded.{column}",
                f"UPDATE files SET {column}=NULL WHERE path=?")
       for column in ("base", "live", "staging")}}


_ASIDE = "\x1f"  # between a table's name and the operation that put it aside
_OF_TABLES = (("tables", "name"), ("base", "tbl"), ("blocks", "tbl"), ("apart", "tbl"), ("advanced", "tbl"),
              ("pairs", "tbl"))  # what is kept by the name of a table


@dataclass(frozen=True)
class RowMove:
    """A row of one side that is not as the anchor knew it. row: None when it is gone. born: it was not there."""

    key: Key
    row: Row | None
    born: bool
    digest: bytes | None = None


class Anchor:
    """An open anchor. Changes are made inside `changing()`, all or none."""

    def __init__(self, path: Path) -> None:
        if not path.exists():
            raise VoyageError(f"The anchor {path} is missing.", next_step="Retire the voyage and clone again.")
        self._file = sqlite3.connect(path, isolation_level=None)
        try:
            self._file.execute("SELECT count(*) FROM facts").fetchone()
        except sqlite3.DatabaseError as error:
            self._file.close()
            raise VoyageError(f"The anchor {path} is damaged: {error}.",
                              next_step="Retire the voyage and clone again.") from error
        self._operation = self._owner = ""
        self._row_digests = lru_cache(maxsize=256)(self.known_rows)
        self._base_block = lru_cache(maxsize=256)(self._read_base_block)

    @classmethod
    def create(cls, path: Path) -> Anchor:
        path.touch(mode=0o600, exist_ok=False)
        file = sqlite3.connect(path)
        file.executescript(_SCHEMA)
        file.close()
        return cls(path)

    def close(self) -> None:
        self._file.close()

    @contextmanager
    def changing(self) -> Iterator[None]:
        self._file.execute("BEGIN IMMEDIATE")
        try:
            yield
            self._file.execute("COMMIT")
        except BaseException:
            self._file.execute("ROLLBACK")
            raise
        finally:
            self._row_digests.cache_clear()
            self._base_block.cache_clear()

    # --- what an operation changed in the anchor, for taking it back

    @contextmanager
    def recording(self, operation: str) -> Iterator[None]:
        """While it lasts, whatever is changed is remembered under the operation's name, by its owner."""
        self._operation = operation
        try:
            yield
        finally:
            self._operation = ""

    def owned_by(self, *owner: Any) -> None:
        """From now on changes belong to this row (table and live's key) or file."""
        self._owner = pack(list(owner)).hex()

    def _remember(self, what: str, place: list[Any], new: bytes | None) -> None:
        if self._operation:
            self._file.execute("INSERT INTO undo VALUES (?, ?, ?, ?, ?, ?)", (
                self._operation, self._owner, what, pack(place), self._now(what, place), new))

    def _now(self, what: str, place: list[Any]) -> bytes | None:
        """What the anchor says at a place, packed with whether it says anything."""
        found = self._file.execute(_PLACES[what][0], place).fetchone()
        # A file that is not there has an empty place; an empty digest or row says that the row is gone.
        missing = not found or (found[0] is None and what in ("base", "live", "staging"))
        return None if missing else pack([found[0]])

    def revert(self, operation: str, owners: Iterable[tuple[Any, ...]]) -> None:
        """Set what an operation changed back to what it was, for these owners. What was changed since is looked at
        from now on instead."""
        self._remember_tables(operation)
        names = {pack(list(o)).hex() for o in owners}
        entries = self._file.execute("SELECT owner, what, place, old, new FROM undo WHERE operation=? "
                                     "ORDER BY rowid DESC", (operation,)).fetchall()
        touched: set[tuple[Side, str, int]] = set()
        for owner, what, packed, old, new in entries:
            if owner not in names:
                continue
            place = unpack(packed)
            now = self._now(what, place)
            if now == old:
                continue  # done already, by a run that was cut short
            unmoved = now == new
            if unmoved:
                self.owned_by(*unpack(bytes.fromhex(owner)))
                self._remember(what, place, old)
                _, write, clear = _PLACES[what]
                if old is None:
                    self._file.execute(clear, place)
                else:
                    self._file.execute(write, [*place, unpack(old)[0]])
            if what == "apart":
                if not unmoved:
                    self._file.execute(_PLACES[what][1], [*place, ALWAYS_LOOK])
                touched.add((Side(place[0]), place[1], place[2]))
        for side, table, number in touched:
            self._add_up(side, table, number)

    def forget_operation(self, operation: str) -> None:
        """Forget what an operation changed here: it will not be taken back any more."""
        self._file.execute("DELETE FROM undo WHERE operation=?", (operation,))
        for table, column in _OF_TABLES:
            self._file.execute(f"DELETE FROM {table} WHERE {column} LIKE ?", (f"%{_ASIDE}{operation}",))

    # --- schema as it was

    def remember_table(self, side: Side, table: Table) -> None:
        self._file.execute("INSERT OR REPLACE INTO tables VALUES (?, ?, ?)",
                           (side, table.name, msgspec.json.encode(table)))

    def tables(self, side: Side) -> dict[str, Table]:
        """The tables of a side as the anchor knows them."""
        rows = self._file.execute("SELECT name, definition FROM tables WHERE side=? AND instr(name, ?)=0",
                                  (side, _ASIDE))
        return {n: msgspec.json.decode(in_todays_names(d), type=Table) for n, d in rows}

    def _definition(self, side: Side, name: str) -> Table | None:
        found = self._file.execute("SELECT definition FROM tables WHERE side=? AND name=?", (side, name)).fetchone()
        return msgspec.json.decode(in_todays_names(found[0]), type=Table) if found else None

    # --- rows

    def add_base(self, table: str, number: int, payloads: list[bytes]) -> None:
        """Add rows of live's, each as bytes in its table's form, to what is known of a block."""
        self._file.execute(
            "INSERT INTO base SELECT ?, ?, COALESCE(MAX(part), 0) + 1, ? FROM base WHERE tbl=? AND number=?",
            (table, number, squeeze(payloads), table, number))

    def keep_total(self, side: Side, table: str, number: int, block: Block | None) -> None:
        """What a side's block adds up to; None: a row in it has to be looked at in any case."""
        if block is not None and not block.count:
            self._file.execute("DELETE FROM blocks WHERE side=? AND tbl=? AND number=?", (side, table, number))
            return
        self._file.execute("INSERT OR REPLACE INTO blocks VALUES (?, ?, ?, ?, ?)",
                           (side, table, number, block.count if block else 0,
                            block.digest.to_bytes(8) if block else None))

    def set_apart(self, side: Side, table: str, key: Key, digest: bytes | None) -> None:
        """A side's row that is not as in the base, without adding up its block. None: there is no such row."""
        self._remember("apart", [str(side), table, block_of(key), pack(list(key))], pack([digest]))
        self._file.execute("INSERT OR REPLACE INTO apart VALUES (?, ?, ?, ?, ?)",
                           (side, table, block_of(key), pack(list(key)), digest))

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

    def _read_base_block(self, table: str, number: int) -> dict[Key, Row]:
        definition = self._definition(Side.LIVE, table)
        if definition is None or not definition.key:
            return {}
        form = row_form(definition, definition.stored)
        rows = (dict(zip(definition.stored, form.read(p), strict=True)) for p in self._payloads(table, number))
        return {definition.key_of(row): row for row in rows}

    def blocks(self, side: Side, table: str) -> dict[int, Block | None]:
        """A side's blocks as the anchor knows them; None where a row in it has to be looked at in any case."""
        return {n: Block(count, int.from_bytes(total)) if total is not None else None for n, count, total in
                self._file.execute("SELECT number, count, total FROM blocks WHERE side=? AND tbl=?", (side, table))}

    def has(self, side: Side, table: str, key: Value) -> bool:
        """Whether a side had a row with this surrogate key."""
        return (key,) in self._row_digests(side, table, block_of((key,)))

    def base_row(self, table: str, key: Key) -> Row | None:
        """The common ancestor of a row, by live's key at the time it was settled; as live writes it."""
        found = self._file.execute("SELECT row FROM advanced WHERE tbl=? AND key=?",
                                   (table, pack(list(key)))).fetchone()
        if found:
            return None if found[0] is None else unpack(found[0])
        return self._base_block(table, block_of(key)).get(key)

    def moves(self, side: Side, database: Database, table: Table,
              now: dict[int, Block] | None = None) -> Iterator[RowMove]:
        """Which rows of a side's table are not as the anchor knew them. now: the table's blocks, if they are known."""
        known = self._definition(side, table.name)
        columns = known.stored if known else table.stored
        if known and any(table.column(c) is None for c in columns):
            yield from self._moves_without(side, database, table, known)
            return
        then = self.blocks(side, table.name)
        if now is None:
            now = database.blocks(table, columns)
        differing = sorted(n for n in now.keys() | then.keys() if now.get(n) != then.get(n))
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
                        yield RowMove(table.key_of(row), row, born=False)

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
        for number in sorted(then | now):
            expected = dict.fromkeys(self.known_rows(side, table.name, number), ALWAYS_LOOK)
            for payload in self._payloads(table.name, number):
                values = whole.read(payload)
                key = known.key_of(dict(zip(known.stored, values, strict=True)))
                if key in expected and key not in apart:
                    expected[key] = part.digest(part.write([values[p] for p in places]))
            found = dict(database.row_digests(table, rest, [number])) if number in now else {}
            moved = [k for k, d in found.items() if expected.get(k) != d]
            for row in database.fetch_many(table, moved):
                yield RowMove(table.key_of(row), row, table.key_of(row) not in expected, found[table.key_of(row)])
            for key in sorted(expected.keys() - found.keys(), key=repr):
                yield RowMove(key, None, born=False)

    def forget_table(self, name: str) -> None:
        """The table is gone on both sides. While changes are recorded, what is known of it is put aside."""
        for table, column in _OF_TABLES:
            if self._operation:
                self._file.execute(f"UPDATE {table} SET {column}=? WHERE {column}=?",
                                   (f"{name}{_ASIDE}{self._operation}", name))
            else:
                self._file.execute(f"DELETE FROM {table} WHERE {column}=?", (name,))

    def _remember_tables(self, operation: str) -> None:
        """Take up again what an operation put aside."""
        aside = self._file.execute("SELECT DISTINCT name FROM tables WHERE name LIKE ?",
                                   (f"%{_ASIDE}{operation}",)).fetchall()
        for (name,) in aside:
            for table, column in _OF_TABLES:
                self._file.execute(f"DELETE FROM {table} WHERE {column}=?", (name.partition(_ASIDE)[0],))
                self._file.execute(f"UPDATE {table} SET {column}=? WHERE {column}=?", (name.partition(_ASIDE)[0], name))

    def advance_row(self, table: str, key: Key, row: Row | None) -> None:
        """Set the common ancestor of a row, by live's key; None: there is no such row any more."""
        packed = None if row is None else pack(row)
        self._remember("advanced", [table, pack(list(key))], pack([packed]))
        self._file.execute("INSERT OR REPLACE INTO advanced VALUES (?, ?, ?)", (table, pack(list(key)), packed))

    def set_digest(self, side: Side, table: str, key: Key, digest: bytes | None) -> None:
        """What a side's row counts as unchanged by: its digest; ALWAYS_LOOK; None: there is no such row."""
        self.set_apart(side, table, key, digest)
        self._add_up(side, table, block_of(key))

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
        pairs: dict[str, dict[Value, str]] = {}
        for table, key, name in self._file.execute("SELECT tbl, key, name FROM pairs WHERE side=?", (side,)):
            pairs.setdefault(table, {})[key] = name
        return Keys(pairs, lambda table, key: self.has(side, table, key))

    # --- files

    def keep_file(self, side: Side, path: str, entry: Entry | None) -> None:
        """What a side's file was when it was last known to be as the ancestor; None: there is none."""
        self._keep_file("live" if side is Side.LIVE else "staging", path, entry)

    def keep_base_file(self, entry: Entry | None, path: str, content: bytes | None = None) -> None:
        """Set the common ancestor of a file; with its content where it is a small text."""
        self._keep_file("base", path, entry)
        self._keep_text(entry, content)

    def _keep_file(self, column: str, path: str, entry: Entry | None) -> None:
        packed = None if entry is None else msgspec.msgpack.encode(entry)
        self._remember(column, [path], None if packed is None else pack([packed]))
        self._file.execute(_PLACES[column][1], (path, packed))

    def _keep_text(self, entry: Entry | None, content: bytes | None) -> None:
        if entry is not None and content is not None:
            self._file.execute("INSERT OR REPLACE INTO texts VALUES (?, ?)", (entry.digest, squeeze(content)))

    def keep_copied(self, entry: Entry, staging: Entry, content: bytes | None) -> None:
        """A file that both sides have as the ancestor is, with staging's own stamp."""
        raw = msgspec.msgpack.encode(entry)
        self._file.execute("INSERT INTO files VALUES (?, ?, ?, ?)",
                           (entry.path, raw, raw, msgspec.msgpack.encode(staging)))
        self._keep_text(entry, content)

    def files(self, side: Side) -> dict[str, Entry]:
        column = "live" if side is Side.LIVE else "staging"
        rows: Iterable[tuple[str, bytes]] = self._file.execute(
            f"SELECT path, {column} FROM files WHERE {column} IS NOT NULL")
        decoder = msgspec.msgpack.Decoder(Entry)
        return {p: decoder.decode(e) for p, e in rows}

    def below(self, folder: str) -> int:
        """How many files the ancestor has in a folder, at any depth."""
        found = self._file.execute("SELECT count(*) FROM files WHERE base IS NOT NULL AND substr(path, 1, ?) = ?",
                                   (len(folder) + 1, folder + "/")).fetchone()
        return int(found[0])

    def base_file(self, path: str) -> Entry | None:
        found = self._file.execute("SELECT base FROM files WHERE path=?", (path,)).fetchone()
        return msgspec.msgpack.decode(found[0], type=Entry) if found and found[0] else None

    def base_files(self) -> dict[str, Entry]:
        """Every file of the common ancestor."""
        decoder = msgspec.msgpack.Decoder(Entry)
        return {p: decoder.decode(e) for p, e in self._file.execute(
            "SELECT path, base FROM files WHERE base IS NOT NULL")}

    def text(self, digest: bytes | None) -> bytes | None:
        """The content of a small text file by its digest."""
        found = self._file.execute("SELECT content FROM texts WHERE digest=?", (digest,)).fetchone()
        return unsqueeze(found[0]) if found else None

    # --- facts

    def set_fact(self, name: str, value: Any) -> None:
        self._file.execute("INSERT OR REPLACE INTO facts VALUES (?, ?)", (name, msgspec.json.encode(value).decode()))

    def fact(self, name: str) -> Any:
        found = self._file.execute("SELECT value FROM facts WHERE name=?", (name,)).fetchone()
        return msgspec.json.decode(found[0]) if found else None
