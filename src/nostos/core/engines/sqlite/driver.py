"""The driver of a SQLite file: of one on this machine, or of one on another, by the sqlite3 of the helper there."""

from __future__ import annotations

import sqlite3
from collections.abc import Collection, Iterator, Sequence
from pathlib import Path
from typing import Any, Protocol

from nostos.core.database.protocol import Block
from nostos.core.database.rows.block_sums import Sums
from nostos.core.database.rows.digests import block_of, row_digest
from nostos.core.database.schema import Key, Value
from nostos.core.errors import HostError, SiteError
from nostos.core.hosts.connection import reach
from nostos.core.hosts.far_path import FarPath
from nostos.core.hosts.helper import Sqlite

LOCK_WAIT_SECONDS = 10.0
LONG_LOG = 4 << 20  # bytes
_BATCH = 500
_MANY_BYTES = 8 << 20  # of rows in one message
_ERRORS = {e.__name__: e for e in (sqlite3.OperationalError, sqlite3.IntegrityError, sqlite3.DataError,
                                   sqlite3.InterfaceError, sqlite3.ProgrammingError, sqlite3.NotSupportedError,
                                   sqlite3.InternalError, sqlite3.DatabaseError)}


class Cursor(Protocol):
    """A statement's rows."""

    @property
    def rowcount(self) -> int: ...
    @property
    def lastrowid(self) -> int | None: ...
    def fetchone(self) -> Any: ...
    def fetchmany(self, size: int = ..., /) -> list[Any]: ...
    def fetchall(self) -> list[Any]: ...
    def __iter__(self) -> Iterator[Any]: ...


class Driver(Protocol):
    """An open file. Transactions are what statements make of them; errors are those of sqlite3."""

    @property
    def in_transaction(self) -> bool: ...
    @property
    def version(self) -> tuple[int, ...]: ...

    def execute(self, sql: str, values: Sequence[Value] = ()) -> Cursor: ...

    def many(self, sql: str, rows: Sequence[Sequence[Value]]) -> int:
        """One statement for many rows. Returns how many it touched."""
        ...

    def all(self, statements: Sequence[str]) -> list[list[tuple[Any, ...]]]:
        """All rows of each of some short statements."""
        ...

    def blocks(self, queries: Sequence[tuple[str, int]]) -> list[dict[int, Block]]:
        """The blocks of the rows of each query, whose first columns are so many of their key."""
        ...

    def digests(self, sql: str, keys: int, numbers: Collection[int] | None) -> Iterator[tuple[Key, bytes]]:
        """The digests of a query's rows, or of those of some blocks."""
        ...

    def mentions(self, numbers: Collection[str]) -> None:
        """Make the function nostos_mentions(bytes): whether one of these numbers stands in them."""
        ...

    def relieve(self) -> None:
        """Carry a long log over, if nobody is disturbed by it."""
        ...

    def close(self) -> None: ...


class NearDriver:
    """A file on this machine."""

    version: tuple[int, ...] = sqlite3.sqlite_version_info

    def __init__(self, path: Path, readonly: bool) -> None:
        self._served = Sqlite(str(path), "ro" if readonly else "rw", LOCK_WAIT_SECONDS)
        self._connection = self._served.connection
        self.execute = self._connection.execute

    @property
    def in_transaction(self) -> bool:
        return self._connection.in_transaction

    def many(self, sql: str, rows: Sequence[Sequence[Value]]) -> int:
        return self._connection.executemany(sql, rows).rowcount

    def all(self, statements: Sequence[str]) -> list[list[tuple[Any, ...]]]:
        return [self._connection.execute(sql).fetchall() for sql in statements]

    def blocks(self, queries: Sequence[tuple[str, int]]) -> list[dict[int, Block]]:
        return [Sums().add_by_keys(self.digests(sql, keys, None)).blocks() for sql, keys in queries]

    def digests(self, sql: str, keys: int, numbers: Collection[int] | None) -> Iterator[tuple[Key, bytes]]:
        wanted = None if numbers is None else set(numbers)
        cursor = self._connection.execute(sql)
        while batch := cursor.fetchmany(_BATCH):
            for values in batch:
                if wanted is None or block_of(values[:keys]) in wanted:
                    yield values[:keys], row_digest(values[keys:])

    def mentions(self, numbers: Collection[str]) -> None:
        self._served.mentions(list(numbers))

    def relieve(self) -> None:
        self._served.relieve(LONG_LOG)

    def close(self) -> None:
        self._connection.close()


class FarDriver:
    """A file on another machine."""

    def __init__(self, path: FarPath, readonly: bool = False, create: bool = False) -> None:
        self._host = reach(path.host)
        self.version = tuple(int(n) for n in self._host.about.sqlite.split(".") if n.isdigit())
        self.in_transaction = False
        self._talk = self._host.talk("sqlite", str(path.path), "new" if create else "ro" if readonly else "rw",
                                     LOCK_WAIT_SECONDS)
        self._channel = self._talk.__enter__()
        with self._host.explaining():
            answer = self._channel.receive()
        if answer != "open":
            self.close()
            raise SiteError(f"There is no database at {path}." if answer == "missing" else
                            f"{path} is not a SQLite database.",
                            next_step="Check the database path in the configuration.")

    def ask(self, *words: Any) -> Any:
        with self._host.explaining():
            self._channel.send(list(words))
            message = self._channel.receive()
        match message:
            case ["done", answer, bool(under_way)]:
                self.in_transaction = under_way
                return answer
            case ["error", str(kind), str(text), bool(under_way)]:
                self.in_transaction = under_way
                raise _ERRORS.get(kind, sqlite3.DatabaseError)(text)
        raise HostError(f"{self._host.host} gave an answer that cannot be understood.", next_step="Try again.")

    def execute(self, sql: str, values: Sequence[Value] = ()) -> Cursor:
        return FarCursor(self, self.ask("run", sql, list(values)))

    def many(self, sql: str, rows: Sequence[Sequence[Value]]) -> int:
        total, some, size = 0, [], 0
        for row in rows:
            some.append(list(row))
            size += sum(len(v) if isinstance(v, str | bytes) else 9 for v in row)
            if size > _MANY_BYTES:
                total += int(self.ask("many", sql, some))
                some, size = [], 0
        return total + (int(self.ask("many", sql, some)) if some else 0)

    def all(self, statements: Sequence[str]) -> list[list[tuple[Any, ...]]]:
        return [[tuple(row) for row in rows] for rows in self.ask("all", list(statements))]

    def blocks(self, queries: Sequence[tuple[str, int]]) -> list[dict[int, Block]]:
        return [{int(number): Block(int(rows), int(digest)) for number, rows, digest in blocks}
                for blocks in self.ask("all_blocks", [list(q) for q in queries])]

    def digests(self, sql: str, keys: int, numbers: Collection[int] | None) -> Iterator[tuple[Key, bytes]]:
        some, more = self.ask("digests", sql, keys, None if numbers is None else sorted(numbers))
        while True:
            yield from ((tuple(row[:keys]), bytes(row[keys])) for row in some)
            if not more:
                return
            some, more = self.ask("more", more)

    def mentions(self, numbers: Collection[str]) -> None:
        self.ask("mentions", sorted(numbers))

    def relieve(self) -> None:
        self.ask("relieve", LONG_LOG)

    def close(self) -> None:
        if not self._host.lost and not self._channel.ended:
            with self._host.explaining():
                self._channel.no_more()
                self._channel.answer()
        self._talk.__exit__(None, None, None)


class FarCursor:
    """A statement's rows, fetched as they are asked for."""

    def __init__(self, driver: FarDriver, answer: Any) -> None:
        _, self.rowcount, self.lastrowid, rows, self._more = answer
        self._driver = driver
        self._rows = [tuple(r) for r in rows]
        self._at = 0

    def __iter__(self) -> Iterator[Any]:
        while (row := self.fetchone()) is not None:
            yield row

    def _fill(self) -> bool:
        if self._at >= len(self._rows) and self._more:
            rows, self._more = self._driver.ask("more", self._more)
            self._rows, self._at = [tuple(r) for r in rows], 0
        return self._at < len(self._rows)

    def fetchone(self) -> Any:
        if not self._fill():
            return None
        self._at += 1
        return self._rows[self._at - 1]

    def fetchmany(self, size: int = 1, /) -> list[Any]:
        if not self._fill():
            return []
        rows = self._rows[self._at:self._at + size]
        self._at += len(rows)
        return rows

    def fetchall(self) -> list[Any]:
        return list(self)
