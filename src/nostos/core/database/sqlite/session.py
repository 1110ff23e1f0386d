"""An open SQLite file: statements, transactions, the schema."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Column, ForeignKey, Table, Value
from nostos.core.database.sqlite.driver import Cursor, Driver, FarDriver, NearDriver
from nostos.core.errors import Disturbed, MergeRefused, NostosError, SiteError
from nostos.core.hosts.far_path import AnyPath, FarPath

_AT_ONCE = 500  # values in one statement
_MAGIC = b"SQLite format 3\x00"


def quote(name: str) -> str:
    """An identifier, quoted for SQL."""
    return '"' + name.replace('"', '""') + '"'


def _bound(value: Value) -> tuple[str, Value]:
    """Placeholder and value; text that is not valid UTF-8 goes through as bytes that SQLite calls text."""
    if isinstance(value, str):
        try:
            value.encode()
        except UnicodeEncodeError:
            return "CAST(? AS TEXT)", value.encode("utf-8", "surrogateescape")
    return "?", value


def check_file(path: AnyPath) -> None:
    """Raise SiteError unless this is a database file that can be read."""
    if not path.exists():
        raise SiteError(f"There is no database at {path}.", next_step="Check the database path in the configuration.")
    if not path.is_file():
        raise SiteError(f"{path} is not a file, so it is not a SQLite database.", next_step="Check the database path.")
    try:
        if isinstance(path, FarPath):
            head = path.read_bytes(16)
        else:
            with path.open("rb") as file:
                head = file.read(16)
    except OSError as error:
        raise SiteError(f"The database {path} cannot be read: {error.strerror}.",
                        next_step="Give your user the right to read it.") from error
    if head != _MAGIC:
        raise SiteError(f"{path} is not a SQLite database.", next_step="Check the database path in the configuration.")


class SqliteSession(Database):
    """A SQLite file. readonly opens it so that nothing at all can be written; create makes it, private, first."""

    scans_for_children = True

    def __init__(self, path: AnyPath, readonly: bool = False, create: bool = False) -> None:
        if create and isinstance(path, Path):
            path.parent.mkdir(parents=True, exist_ok=True)
            path.touch(mode=0o600, exist_ok=False)
        elif not create:
            check_file(path)
        self.path = path
        self.url = f"sqlite:///{path}"
        try:
            self._driver: Driver = (FarDriver(path, readonly, create) if isinstance(path, FarPath)
                                    else NearDriver(path, readonly))
            self._driver.execute("SELECT count(*) FROM sqlite_master").fetchone()
        except sqlite3.DatabaseError as error:
            raise SiteError(f"The database {path} cannot be opened: {error}.",
                            next_step="Check the file and your rights to it.") from error

    def close(self) -> None:
        self._driver.close()

    def _run(self, sql: str, values: Sequence[Value] = ()) -> Cursor:
        return self._driver.execute(sql, tuple(values))

    def version(self) -> str:
        return f"SQLite {'.'.join(map(str, self._driver.version))}"

    def journal_mode(self) -> str:
        return str(self._run("PRAGMA journal_mode").fetchone()[0])

    def tables(self) -> dict[str, Table]:
        names = [r[0] for r in self._run(
            "SELECT name FROM sqlite_master WHERE type='table' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' "
            "AND sql NOT LIKE 'CREATE VIRTUAL%' ORDER BY name")]
        shadows = self._shadows("main")
        return {n: self._table(n) for n in names if n not in shadows}

    def _shadows(self, schema: str) -> set[str]:
        """The tables in which virtual tables keep what they know. A table that is merely called so is none."""
        if self._driver.version >= (3, 37):
            return {r[1] for r in self._run(f"PRAGMA {schema}.table_list").fetchall()
                    if r[0] == schema and r[2] == "shadow"}
        made = self._run(f"SELECT name, sql FROM {schema}.sqlite_master WHERE type='table'").fetchall()
        virtual = {n: sql.lower() for n, sql in made if sql and sql.upper().startswith("CREATE VIRTUAL")}
        parts = {"fts5": ("data", "idx", "content", "docsize", "config"), "rtree": ("node", "parent", "rowid"),
                 "fts": ("content", "segments", "segdir", "docsize", "stat")}
        return {f"{v}_{part}" for v, sql in virtual.items() for module, names in parts.items() if module in sql
                for part in names} & {n for n, _ in made}

    def virtual_tables(self) -> list[str]:
        """Names of virtual tables (search indexes and the like), which hold no data of their own."""
        return [r[0] for r in self._run(
            "SELECT name FROM sqlite_master WHERE type='table' AND sql LIKE 'CREATE VIRTUAL%'")]

    def _table(self, name: str) -> Table:
        info = self._run(f"PRAGMA table_xinfo({quote(name)})").fetchall()
        columns = tuple(Column(r[1], r[2], not r[3], r[4], generated=r[6] in (2, 3)) for r in info if r[6] != 1)
        key = tuple(r[1] for r in sorted((r for r in info if r[5]), key=lambda r: r[5]))
        ddl = self._run("SELECT sql FROM sqlite_master WHERE type='table' AND name=?", (name,)).fetchone()[0]
        uniques = []
        for _, index, is_unique, origin, partial, *_ in self._run(f"PRAGMA index_list({quote(name)})").fetchall():
            if is_unique and origin != "pk" and not partial:
                names = [r[2] for r in self._run(f"PRAGMA index_info({quote(index)})")]
                if all(n is not None for n in names):
                    uniques.append(tuple(names))
        if not key:
            # A unique index over columns that are never empty tells rows apart as well as a key does.
            solid = {c.name for c in columns if not c.nullable}
            key = next((u for u in uniques if set(u) <= solid), ())
        foreign = self._foreign_keys(name)
        # One INTEGER PRIMARY KEY is the row's own number, which SQLite gives out by itself; unless it is the number
        # of another table's row.
        surrogate = (len(key) == 1 and any(r[5] and r[1] == key[0] and r[2].upper() == "INTEGER" for r in info)
                     and all(fk.columns != key for fk in foreign))
        indexes = tuple((r[0], r[1]) for r in self._run(
            "SELECT name, sql FROM sqlite_master WHERE type='index' AND tbl_name=? AND sql IS NOT NULL ORDER BY name",
            (name,)))
        return Table(name, columns, key, surrogate, tuple(uniques), tuple(foreign), ddl, indexes)

    def _foreign_keys(self, name: str) -> list[ForeignKey]:
        by_number: dict[int, list[Any]] = {}
        for row in self._run(f"PRAGMA foreign_key_list({quote(name)})").fetchall():
            by_number.setdefault(row[0], []).append(row)
        found = []
        for _, parts in sorted(by_number.items(), reverse=True):  # as they were declared
            parts.sort(key=lambda r: r[1])
            targets = tuple(r[4] for r in parts)
            if None in targets:  # SQLite lets the target columns be left out: its primary key is meant
                info = self._run(f"PRAGMA table_info({quote(parts[0][2])})").fetchall()
                targets = tuple(r[1] for r in sorted((r for r in info if r[5]), key=lambda r: r[5]))
            found.append(ForeignKey(tuple(r[3] for r in parts), parts[0][2], targets))
        return found

    @contextmanager
    def reading(self) -> Iterator[None]:
        self._run("BEGIN")
        try:
            self._run("SELECT count(*) FROM sqlite_master").fetchone()  # the snapshot starts with the first read
            yield
        finally:
            self._run("ROLLBACK")
            self._relieve()

    def _relieve(self) -> None:
        """While a snapshot is held, all that others write stays in the log, and whoever writes next after it carries
        the whole of it over, and waits for that: do it for them. It keeps nobody from writing or reading."""
        self._driver.relieve()

    @contextmanager
    def writing(self, unchecked: bool = False) -> Iterator[None]:
        if unchecked:
            self._run("PRAGMA foreign_keys = OFF")
        try:
            yield from self._writing()
        finally:
            if unchecked:
                self._run("PRAGMA foreign_keys = ON")

    def _writing(self) -> Iterator[None]:
        try:
            self._run("BEGIN IMMEDIATE")
        except sqlite3.OperationalError as error:
            said = self.explained(error)
            if isinstance(said, Disturbed):
                raise said from error
            raise MergeRefused(f"The database {self.path.name} cannot be written: {error}.",
                               next_step="See to your rights there and to free space, and try again.") from error
        try:
            # References are checked when the transaction ends, so that rows may arrive in any order.
            self._run("PRAGMA defer_foreign_keys = ON")
            yield
            self._run("COMMIT")
        except BaseException as error:
            if self._driver.in_transaction:
                self._run("ROLLBACK")
            said = self.explained(error)
            if said is not None:
                raise said from error
            raise

    def explained(self, error: BaseException, at: str = "") -> NostosError | None:
        if not isinstance(error, sqlite3.Error):
            return None
        where = f" at {at}" if at else ""
        if "locked" in str(error) or "busy" in str(error):
            return Disturbed(f"The database {self.path.name} is being written by others{where}: {error}.",
                             left="Nothing of it was changed.",
                             next_step="Wait until other programs have let go of it, and try again.")
        return MergeRefused(f"The database refused the changes{where}: {error}.", left="They were all taken back.",
                            next_step=f"Look at {at}, or leave it out." if at else "Look at what the message names.")
