"""The file of an anchor, facts in it, and what an operation changed in it, for taking that back."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any, Self

import msgspec

from nostos.core.anchor.alike import ALIKE
from nostos.core.errors import VoyageError
from nostos.core.values.packed import pack

_SCHEMA = """
CREATE TABLE facts (name TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE tables (side TEXT, name TEXT, definition BLOB NOT NULL, PRIMARY KEY (side, name));
CREATE TABLE base (tbl TEXT, number INTEGER, part INTEGER, rows BLOB NOT NULL, PRIMARY KEY (tbl, number, part))
                   WITHOUT ROWID;
CREATE TABLE blocks (side TEXT, tbl TEXT, number INTEGER, count INTEGER, total BLOB, PRIMARY KEY (side, tbl, number))
                     WITHOUT ROWID;
CREATE TABLE fingerprints (side TEXT, tbl TEXT, number INTEGER, count INTEGER, print BLOB,
                           PRIMARY KEY (side, tbl, number)) WITHOUT ROWID;
CREATE TABLE apart (side TEXT, tbl TEXT, number INTEGER, key BLOB, digest BLOB, PRIMARY KEY (side, tbl, number, key))
                    WITHOUT ROWID;
CREATE TABLE advanced (tbl TEXT, key BLOB, row BLOB, PRIMARY KEY (tbl, key)) WITHOUT ROWID;
CREATE TABLE pairs (side TEXT, tbl TEXT, key INTEGER, name TEXT NOT NULL, PRIMARY KEY (side, tbl, key)) WITHOUT ROWID;
CREATE TABLE files (path TEXT PRIMARY KEY, base BLOB, live BLOB, staging BLOB) WITHOUT ROWID;
CREATE TABLE undo (operation TEXT, owner TEXT, what TEXT, place BLOB, old BLOB, new BLOB);
CREATE INDEX undo_by_operation ON undo (operation);
CREATE TABLE texts (digest BLOB PRIMARY KEY, content BLOB NOT NULL) WITHOUT ROWID;
"""
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
              ("pairs", "tbl"))  # what is kept by the name of a table, and put aside with it


class AnchorRecords:
    """An open anchor's file. Changes are made inside `changing()`, all or none."""

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

    @classmethod
    def create(cls, path: Path) -> Self:
        """A new, empty anchor in a file that nobody else may read. Raises FileExistsError where there is one."""
        path.touch(mode=0o600, exist_ok=False)
        file = sqlite3.connect(path)
        file.executescript(_SCHEMA)
        file.close()
        return cls(path)

    def close(self) -> None:
        self._file.close()

    @contextmanager
    def changing(self) -> Iterator[None]:
        """A transaction on the anchor's own file: all that is changed in the block, or nothing. It is flushed when the
        block ends; a crash in it leaves the anchor as it was."""
        self._file.execute("BEGIN IMMEDIATE")
        try:
            yield
            self._file.execute("COMMIT")
        except BaseException:
            self._file.execute("ROLLBACK")
            raise
        finally:
            self.forget_read()

    def forget_read(self) -> None:
        """Whatever was read before may be another by now."""

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
        row = self._file.execute(_PLACES[what][0], place).fetchone()
        # A file that is not there has an empty place; an empty digest or row says that the row is gone.
        missing = not row or (row[0] is None and what in ("base", "live", "staging"))
        return None if missing else pack([row[0]])

    def _remember_tables(self, operation: str) -> None:
        """Take up again what an operation put aside."""
        aside = self._file.execute("SELECT DISTINCT name FROM tables WHERE name LIKE ?",
                                   (f"%{_ASIDE}{operation}",)).fetchall()
        for (name,) in aside:
            for table, column in _OF_TABLES:
                self._file.execute(f"DELETE FROM {table} WHERE {column}=?", (name.partition(_ASIDE)[0],))
                self._file.execute(f"UPDATE {table} SET {column}=? WHERE {column}=?", (name.partition(_ASIDE)[0], name))

    def set_fact(self, name: str, value: Any) -> None:
        """Remember something of the voyage under a name: whatever JSON holds."""
        self._file.execute("INSERT OR REPLACE INTO facts VALUES (?, ?)", (name, msgspec.json.encode(value).decode()))

    def know_alike(self, pairs: Mapping[str, list[str]]) -> None:
        """Take down definitions that are one."""
        if pairs:
            self.set_fact(ALIKE, {**(self.fact(ALIKE) or {}), **pairs})

    def fact(self, name: str) -> Any:
        """What was remembered under a name; None where nothing was."""
        row = self._file.execute("SELECT value FROM facts WHERE name=?", (name,)).fetchone()
        return msgspec.json.decode(row[0]) if row else None
