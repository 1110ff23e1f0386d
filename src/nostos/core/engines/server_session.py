"""What is said to every database server in the same words."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from functools import cache, cached_property
from typing import Any, Protocol

from nostos.core.database.outline import Trigger
from nostos.core.database.protocol import AT_ONCE, Database, ForeignColumn
from nostos.core.database.registry import Location
from nostos.core.database.schema import Key, Row, Table, Value, numbered_by_system

PATTERNS = 50  # so many numbers are looked for by one regular expression of the server's
COPY = "nostos_copy"  # a table without rows, by which a copy is known in a database that holds other sites, too


class TableSql(Protocol):
    """The SQL for a table's rows."""

    @property
    def ranged(self) -> bool:
        """Whether its key is one number."""


class ServerSession(Database):
    """A server's database, seen through a table prefix."""

    computes = True
    location: Location
    _locking = False
    _read: Callable[[], dict[str, Table]] | None = None  # the tables, as long as what is read is one state

    # --- what an engine brings

    @abstractmethod
    def run(self, sql: str, values: Sequence[Value] = ()) -> list[tuple[Any, ...]]:
        """Run a statement; its rows."""

    @abstractmethod
    def run_all(self, statements: Sequence[tuple[str, Sequence[Value]]]) -> list[list[tuple[Any, ...]]]:
        """Run statements one after another, in one request; the rows of each."""

    @contextmanager
    def _committing(self, begin: str, failures: type[Exception]) -> Iterator[None]:
        """A transaction on this connection. begin: the statement that starts it, with its isolation. failures: the
        driver's errors. Committed when the block ends; whatever is raised, in it or by the commit, is raised after
        everything was taken back, with the server's words where they say more. A crash in it leaves nothing; a commit
        whose answer is lost may have come to pass, which only the marker says."""
        self.run(begin)
        try:
            yield
            self.run("COMMIT")
        except BaseException as error:
            with suppress(failures):
                self.run("ROLLBACK")
            explained = self.explained(error)
            if explained is not None:
                raise explained from error
            raise

    @contextmanager
    def _saved_point(self, failures: type[Exception]) -> Iterator[None]:
        """What is written in the block is taken back, and nothing else, where it raises."""
        self.run("SAVEPOINT nostos_rows")
        try:
            yield
        except BaseException:
            with suppress(failures):  # after a deadlock there is no transaction any more
                self.run("ROLLBACK TO SAVEPOINT nostos_rows")
            raise

    @abstractmethod
    def _reflected(self) -> dict[str, Table]:
        """The tables as the server has them now."""

    @staticmethod
    @abstractmethod
    def quoted(name: str) -> str:
        """A name as a statement writes it."""

    @abstractmethod
    def _of(self, table: Table) -> TableSql: ...

    @abstractmethod
    def _triggers(self) -> list[Trigger]:
        """The triggers of the site's tables."""

    @cached_property
    def _acting(self) -> frozenset[str]:
        """The tables that have triggers."""
        return frozenset(t.table for t in self._triggers())

    @abstractmethod
    def _rows(self, table: Table, where: str, values: Sequence[Value]) -> Iterator[Row]:
        """The rows for which a condition holds."""

    @abstractmethod
    def _matching(self, table: Table, values: Mapping[str, Value]) -> tuple[str, list[Value]]:
        """Columns that equal these values exactly: text by its bytes, not by its collation."""

    @staticmethod
    def _own(table: Table, column: str, value: Value) -> Value:
        """A value as a column's type takes it in a comparison."""
        return value

    def _comparable(self, table: Table, column: str) -> str:
        """A column as it can be compared."""
        return self.quoted(column)

    # --- what follows

    def tables(self) -> dict[str, Table]:
        return numbered_by_system((self._read or self._reflected)(), self.location.given)

    @contextmanager
    def _one_state(self, tables: Callable[[], dict[str, Table]]) -> Iterator[None]:
        """While what is read is one state, its tables are worked out once."""
        self._read = cache(tables)
        try:
            yield
        finally:
            self._read = None

    def real(self, table: str) -> str:
        """A table's full name, quoted."""
        return self.quoted(self.prefix + table)

    def held(self, table: str) -> str:
        """A table's full name for what is done to the rows that it holds itself."""
        return self.real(table)

    @staticmethod
    def _marks(count: int) -> str:
        return ", ".join(["%s"] * count)

    @contextmanager
    def locking(self) -> Iterator[None]:
        self._locking = True
        try:
            yield
        finally:
            self._locking = False

    def count(self, table: str) -> int:
        return int(self.run(f"SELECT COUNT(*) FROM {self.held(table)}")[0][0])

    def _keyed(self, table: Table, keys: Sequence[Key]) -> Iterator[tuple[str, list[Value]]]:
        """Conditions that select rows by their keys, some at once."""
        if self._of(table).ranged:
            for at in range(0, len(keys), 1000):
                numbers = [k[0] for k in keys[at:at + 1000]]
                yield f"{self.quoted(table.key[0])} IN ({self._marks(len(numbers))})", numbers
            return
        for at in range(0, len(keys), 200):
            tests, bound = [], []
            for key in keys[at:at + 200]:
                where, values = self._matching(table, dict(zip(table.key, key, strict=True)))
                tests.append(f"({where})")
                bound += values
            yield "(" + " OR ".join(tests) + ")", bound

    def fetch(self, table: Table, key: Key) -> Row | None:
        return next(iter(self.find(table, dict(zip(table.key, key, strict=True)))), None)

    def fetch_many(self, table: Table, keys: Sequence[Key]) -> Iterator[Row]:
        for where, values in self._keyed(table, keys):
            yield from self._rows(table, where, values)

    def top(self, table: Table) -> int | None:
        value = self.run(f"SELECT MAX({self.quoted(table.key[0])}) FROM {self.held(table.name)}")[0][0]
        return None if value is None else int(value)

    def above(self, table: Table, key: int) -> Iterator[Row]:
        yield from list(self._rows(table, f"{self.quoted(table.key[0])} > %s", (key,)))

    def broken_references(self, table: Table) -> Iterator[tuple[Key, ForeignColumn]]:
        yield from ()  # the server holds its foreign keys itself

    def has_null(self, table: Table, column: str) -> bool:
        return bool(self.run(f"SELECT 1 FROM {self.held(table.name)} WHERE {self.quoted(column)} IS NULL LIMIT 1"))

    def has_duplicates(self, table: Table, columns: Sequence[str]) -> bool:
        names = ", ".join(self._comparable(table, c) for c in columns)
        full = " AND ".join(f"{self.quoted(c)} IS NOT NULL" for c in columns)
        return bool(self.run(f"SELECT 1 FROM {self.held(table.name)} WHERE {full} GROUP BY {names} "
                             "HAVING COUNT(*) > 1 LIMIT 1"))

    def recount(self, table: Table, column: str, counted: Table, by: str, where: Mapping[str, Value],
                keys: Sequence[Value], through: tuple[Table, str, Mapping[str, Value]] | None = None) -> None:
        quote = self.quoted
        tests, bound = self._matching(counted, where)
        if through is not None:
            other, points, wanted = through
            more, values = self._matching(other, wanted)
            tests += f" AND {quote(points)} IN (SELECT {quote(other.key[0])} FROM {self.held(other.name)} WHERE {more})"
            bound += values
        column_sql = f"{self.real(table.name)}.{quote(table.key[0])}"
        for at in range(0, len(keys), AT_ONCE):
            part = [self._own(table, table.key[0], k) for k in keys[at:at + AT_ONCE]]
            self.run(f"UPDATE {self.held(table.name)} SET {quote(column)} = (SELECT COUNT(*) FROM "
                     f"{self.held(counted.name)} nostos_counted WHERE nostos_counted.{quote(by)} = {column_sql} AND "
                     f"{tests}) "
                     f"WHERE {column_sql} IN ({self._marks(len(part))})", [*bound, *part])

    def clear(self, table: str, column: str | None = None, patterns: Sequence[str] = ()) -> None:
        if column is None:
            self.run(f"DELETE FROM {self.held(table)}")
            return
        place = self.quoted(column)
        plain = [p for p in patterns if "*" not in p]
        if plain:
            self.run(f"DELETE FROM {self.held(table)} WHERE {place} IN ({self._marks(len(plain))})", plain)
        for pattern in (p for p in patterns if "*" in p):  # each by itself: so an index leads to these rows alone
            like = pattern.replace("|", "||").replace("%", "|%").replace("_", "|_").replace("*", "%")
            self.run(f"DELETE FROM {self.held(table)} WHERE {place} LIKE %s ESCAPE '|'", [like])
