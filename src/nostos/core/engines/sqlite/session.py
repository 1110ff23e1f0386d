"""An open SQLite file: statements, transactions, the schema."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Table, Value
from nostos.core.engines.sqlite.driver import Cursor, Driver, FarDriver, NearDriver
from nostos.core.engines.sqlite.reflection import STATEMENTS, tables_of
from nostos.core.errors import Disturbed, MergeRefused, NostosError, SiteError
from nostos.core.hosts.far_path import AnyPath, FarPath

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


def check_file(path: Path) -> None:
    """Raise SiteError unless this is a database file that can be read."""
    if not path.exists():
        raise SiteError(f"There is no database at {path}.", next_step="Check the database path in the configuration.")
    if not path.is_file():
        raise SiteError(f"{path} is not a file, so it is not a SQLite database.", next_step="Check the database path.")
    try:
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
        self._schema: tuple[int, dict[str, Table]] | None = None  # as of a version that the file counts
        if create and isinstance(path, Path):
            path.parent.mkdir(parents=True, exist_ok=True)
            path.touch(mode=0o600, exist_ok=False)
        elif isinstance(path, Path):
            check_file(path)
        self.path = path
        self.computes = isinstance(path, FarPath)
        self.url = f"sqlite:///{path}"
        try:
            self._driver: Driver = (FarDriver(path, readonly, create) if isinstance(path, FarPath)
                                    else NearDriver(path, readonly))
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
        version = self._run("PRAGMA schema_version").fetchone()[0]
        if self._schema is None or self._schema[0] != version:
            self._schema = version, self._reflected()
        return dict(self._schema[1])

    def _reflected(self) -> dict[str, Table]:
        if self._driver.version >= (3, 37):
            *reflected, tables = self._driver.all([*STATEMENTS, "PRAGMA main.table_list"])
            return tables_of(reflected, {r[1] for r in tables if r[0] == "main" and r[2] == "shadow"})
        return tables_of(self._driver.all(STATEMENTS), self._shadows("main"))

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

    @contextmanager
    def reading(self) -> Iterator[None]:
        self._driver.all(["BEGIN", "SELECT count(*) FROM sqlite_master"])  # the snapshot starts with the first read
        try:
            yield
        finally:
            self._run("ROLLBACK")
            self._schema = None
            self._relieve()

    def _relieve(self) -> None:
        """While a snapshot is held, all that others write stays in the log, and whoever writes next after it carries
        the whole of it over, and waits for that: do it for them. It keeps nobody from writing or reading."""
        self._driver.relieve()

    @contextmanager
    def writing(self, unchecked: bool = False, late: bool = False) -> Iterator[None]:
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
            explained = self.explained(error)
            if isinstance(explained, Disturbed):
                raise explained from error
            raise MergeRefused(f"The database {self.path.name} cannot be written: {error}.",
                               next_step="See to your rights there and to free space, and try again.") from error
        try:
            # References are checked when the transaction ends, so that rows may arrive in any order.
            self._run("PRAGMA defer_foreign_keys = ON")
            yield
            self._run("COMMIT")
        except BaseException as error:
            self._schema = None  # a version that was taken back may be counted again
            if self._driver.in_transaction:
                self._run("ROLLBACK")
            explained = self.explained(error)
            if explained is not None:
                raise explained from error
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
