"""MariaDB and MySQL behind the protocol: reflection and digests by the server, rows through the driver's own cursor.

Values travel as the server writes them: numbers as int, text as str, everything binary as bytes, and whatever else
(dates, zero dates among them, decimals, times) as the server's own text, so that nothing is lost on the way.
"""

from __future__ import annotations

import importlib
import re
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING, Any

from nostos.core.database.mysql import connect as connecting
from nostos.core.database.mysql.reflection import REFLECTION, column_line, quote, renamed, table_of
from nostos.core.database.mysql.row_sql import READERS, RowSql, as_text, bound
from nostos.core.database.outline import Outline, Trigger, reached
from nostos.core.database.protocol import Block, Caution, Database, ForeignColumn, InsideCopy
from nostos.core.database.schema import Column, Key, Row, Table, Value
from nostos.core.errors import NostosError

if TYPE_CHECKING:
    from nostos.core.database.location import Location

_LOCK_WAIT_SECONDS = 1  # while this waits for a row, visitors wait for those that it has
_IDLE_SECONDS = 86400
_SLOW_SECONDS = 3600
_AT_ONCE = 500
_PATTERNS = 50  # so many numbers are looked for by one regular expression of the server's
_FIRST, _BATCH_ROWS, _BATCH_BYTES = 16, 2000, 4_000_000  # of what is fetched at once


MARKS = "nostos_unfinished"  # the table in which a site says that something is unfinished; never copied


class MysqlDatabase(Database):
    """One database of a server, seen through a table prefix."""

    computes = True
    transactional_schema = False

    def __init__(self, location: Location, readonly: bool = False) -> None:
        self.location = location
        self.prefix = location.prefix
        self.name = str(location.url.database)
        self.url = location.shown
        self.driver = connecting.driver()
        self._connection = connecting.connect(location, self.driver)
        # A server may end connections that idle for a few seconds, as ours do while files are copied.
        self.run("SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES', time_zone = '+00:00', "
                 f"SESSION innodb_lock_wait_timeout = {_LOCK_WAIT_SECONDS}, SESSION group_concat_max_len = 1048576, "
                 f"SESSION wait_timeout = {_IDLE_SECONDS}, SESSION net_write_timeout = {_SLOW_SECONDS}, "
                 f"SESSION net_read_timeout = {_SLOW_SECONDS}")
        if readonly:
            self.run("SET SESSION TRANSACTION READ ONLY")
        self.run("SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ")
        self._sql: dict[str, RowSql] = {}
        self._locking = False
        self._nowait: bool | None = None

    def close(self) -> None:
        with suppress(self.driver.MySQLError):
            self._connection.close()

    # --- running statements

    def _cursor(self, sql: str, values: Sequence[Value] = (), stream: bool = False) -> Any:
        kind: Any = None
        if stream:
            kind = importlib.import_module(f"{self.driver.__name__}.cursors").SSCursor
        cursor = self._connection.cursor(kind) if kind else self._connection.cursor()
        cursor.execute(sql, [bound(v) for v in values] if values else ())
        return cursor

    def run(self, sql: str, values: Sequence[Value] = ()) -> list[tuple[Any, ...]]:
        """Run a statement; its result as text (or bytes where it is not text)."""
        cursor = self._cursor(sql, values)
        try:
            return [tuple(as_text(v) for v in row) for row in cursor.fetchall()] if cursor.description else []
        finally:
            cursor.close()

    def _batches(self, sql: str, values: Sequence[Value]) -> Iterator[Sequence[tuple[Any, ...]]]:
        """A statement's rows, streamed, as many at once as take a few megabytes."""
        cursor = self._cursor(sql, values, stream=True)
        count = _FIRST
        broken = False
        try:
            while True:
                try:
                    batch = cursor.fetchmany(count)
                except self.driver.MySQLError:
                    broken = True
                    raise
                if not batch:
                    break
                yield batch
                size = sum(len(v) for row in batch[:_FIRST] for v in row if v is not None) // min(len(batch), _FIRST)
                count = max(1, min(_BATCH_BYTES // (size + 1), 2 * count, _BATCH_ROWS))
        finally:
            if broken:  # what comes of tidying up after that says nothing of the cause
                with suppress(self.driver.MySQLError):
                    cursor.close()
            else:  # what is left must be read before the connection can be used again
                while cursor.fetchmany(_FIRST):
                    pass
                cursor.close()

    def _stream(self, sql: str, values: Sequence[Value], kinds: Sequence[str]) -> Iterator[tuple[Value, ...]]:
        readers = [READERS[k] for k in kinds]
        for batch in self._batches(sql, values):
            # A column at a time: that costs a third of a row at a time.
            yield from zip(*[read(column) for read, column in zip(readers, zip(*batch, strict=True), strict=True)],
                           strict=True)

    def real(self, table: str) -> str:
        """A table's full name, quoted."""
        return quote(self.prefix + table)

    def version(self) -> str:
        said = str(self.run("SELECT VERSION()")[0][0])
        return said if "MariaDB" in said else f"MySQL {said}"

    # --- reflection

    def tables(self) -> dict[str, Table]:
        info: dict[str, dict[str, list[tuple[Any, ...]]]] = {}
        for what, sql in REFLECTION.items():
            for name, *rest in self.run(sql, (self.name,)):
                if name.startswith(self.prefix) and name != self.prefix + MARKS:
                    info.setdefault(name[len(self.prefix):], {}).setdefault(what, []).append(tuple(rest))
        return {name: table_of(name, self.prefix, self.definition(name), found)
                for name, found in sorted(info.items()) if "table" in found}

    def _of(self, table: Table) -> RowSql:
        """The SQL for a table's rows, made once."""
        found = self._sql.get(table.name)
        if found is None or found.table is not table:
            found = self._sql[table.name] = RowSql(table, self.real(table.name))
        return found

    def definition(self, table: str) -> str:
        """The statement that makes the table, as the server writes it."""
        return str(self.run(f"SHOW CREATE TABLE {self.real(table)}")[0][1])

    # --- transactions

    @contextmanager
    def reading(self) -> Iterator[None]:
        self.run("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")
        try:
            yield
        finally:
            with suppress(self.driver.MySQLError):  # a connection that is gone holds no snapshot
                self.run("ROLLBACK")

    @contextmanager
    def writing(self, unchecked: bool = False) -> Iterator[None]:
        self.run("START TRANSACTION")
        try:
            yield
            self.run("COMMIT")
        except BaseException as error:
            with suppress(self.driver.MySQLError):
                self.run("ROLLBACK")
            said = self.explained(error)
            if said is not None:
                raise said from error
            raise

    def explained(self, error: BaseException, at: str = "") -> NostosError | None:
        return connecting.explained(self.driver, error, at)

    # --- reading

    def count(self, table: str) -> int:
        return int(self.run(f"SELECT COUNT(*) FROM {self.real(table)}")[0][0])

    def scan(self, table: Table, columns: Sequence[str]) -> Iterator[tuple[Value, ...]]:
        wanted, kinds = self._of(table).select(columns)
        yield from self._stream(f"SELECT {wanted} FROM {self.real(table.name)}", (), kinds)

    def scan_payloads(self, table: Table) -> Iterator[tuple[int, bytes]]:
        sql = self._of(table)
        for batch in self._batches(f"SELECT {sql.block}, {sql.payload(table.stored)} FROM {sql.real}", ()):
            for number, payload in batch:
                yield int(number), payload

    def blocks(self, table: Table, columns: Sequence[str]) -> dict[int, Block]:
        return {int(b): Block(int(n), int(total)) for b, n, total in self.run(self._of(table).blocks(columns))}

    def row_digests(self, table: Table, columns: Sequence[str],
                    numbers: Collection[int] | None = None) -> Iterator[tuple[Key, bytes]]:
        sql = self._of(table)
        wanted, kinds = sql.select(table.key)
        for where in sql.wheres(numbers):
            for row in self._stream(f"SELECT {wanted}, {sql.digest(columns)} FROM {sql.real}{where}", (),
                                    [*kinds, "text"]):
                yield row[:-1], bytes.fromhex(str(row[-1]))

    def rows_where_set(self, table: Table, columns: Sequence[Column]) -> Iterator[Row]:
        tests = " OR ".join(f"NOT ({quote(c.name)} <=> DEFAULT({quote(c.name)}))" for c in columns)
        yield from self._rows(table, tests, ())

    def _rows(self, table: Table, where: str, values: Sequence[Value]) -> Iterator[Row]:
        wanted, kinds = self._of(table).select(table.stored)
        sql = f"SELECT {wanted} FROM {self.real(table.name)} WHERE {where}"
        for row in self._stream(sql, values, kinds):
            yield dict(zip(table.stored, row, strict=True))

    def _matching(self, table: Table, values: Mapping[str, Value]) -> tuple[str, list[Value]]:
        """Columns that equal these values exactly: text by its bytes, not by its collation."""
        kinds = self._of(table).kinds
        tests = []
        for c, value in values.items():
            # The plain comparison lets an index find the row; the binary one makes it exact.
            exact = kinds.get(c) == "text" and value is not None
            tests.append(f"{quote(c)} <=> %s" + (f" AND BINARY CONVERT({quote(c)} USING utf8mb4) = BINARY %s"
                                                 if exact else ""))
        bound = [v for c, value in values.items()
                 for v in ([value, value] if kinds.get(c) == "text" and value is not None else [value])]
        return " AND ".join(tests) or "1", bound

    def fetch(self, table: Table, key: Key) -> Row | None:
        return next(iter(self.find(table, dict(zip(table.key, key, strict=True)))), None)

    def fetch_many(self, table: Table, keys: Sequence[Key]) -> Iterator[Row]:
        for where, values in self._keyed(table, keys):
            yield from self._rows(table, where, values)

    def locked(self, table: Table, keys: Sequence[Key]) -> Iterator[Row]:
        # A plain read would see the transaction's snapshot; one that locks sees what is there now. It does not wait
        # for others while it holds rows itself; and it is read whole, for a deadlock may be told in the middle of it.
        wanted, kinds = self._of(table).select(table.stored)
        for where, values in self._keyed(table, sorted(keys, key=repr)):
            sql = f"SELECT {wanted} FROM {self.real(table.name)} WHERE {where} FOR UPDATE"
            cursor = self._cursor(f"{sql} NOWAIT" if self._may_refuse_to_wait() else sql, values)
            try:
                found = cursor.fetchall()
            finally:
                cursor.close()
            columns = [READERS[k](column) for k, column in zip(kinds, zip(*found, strict=True), strict=True)
                       ] if found else []
            for row in zip(*columns, strict=True):
                yield dict(zip(table.stored, row, strict=True))

    def _may_refuse_to_wait(self) -> bool:
        """Whether the server knows NOWAIT: MariaDB from 10.3, MySQL from 8.0 on."""
        if self._nowait is None:
            numbers = re.findall(r"\d+", str(self.run("SELECT VERSION()")[0][0]))
            self._nowait = (int(numbers[0]), int(numbers[1])) >= ((10, 3) if "MariaDB" in self.version() else (8, 0))
        return self._nowait

    def _keyed(self, table: Table, keys: Sequence[Key]) -> Iterator[tuple[str, list[Value]]]:
        """Conditions that select rows by their keys, some at once."""
        kinds = self._of(table).kinds
        if len(table.key) == 1 and kinds[table.key[0]] == "int":
            for at in range(0, len(keys), 1000):
                numbers = [k[0] for k in keys[at:at + 1000]]
                yield f"{quote(table.key[0])} IN ({self._marks(len(numbers))})", numbers
            return
        for at in range(0, len(keys), 200):
            part = keys[at:at + 200]
            tests, bound = [], []
            for key in part:
                where, values = self._matching(table, dict(zip(table.key, key, strict=True)))
                tests.append(f"({where})")
                bound += values
            yield "(" + " OR ".join(tests) + ")", bound

    def find(self, table: Table, values: Mapping[str, Value]) -> list[Row]:
        where, bound = self._matching(table, values)
        # Only where an index leads to the rows: else the lock would hold the whole table.
        lock = " LOCK IN SHARE MODE" if self._locking and table.indexed(next(iter(values), "")) else ""
        return list(self._rows(table, where + lock, bound))

    @contextmanager
    def locking(self) -> Iterator[None]:
        self._locking = True
        try:
            yield
        finally:
            self._locking = False

    def _texts(self, table: Table, where: Mapping[str, str]) -> tuple[str, list[Value]]:
        names = [c for c in where if table.column(c) is not None]
        return "".join(f" AND {quote(c)} = %s" for c in names), [where[c] for c in names]

    def find_any(self, table: Table, column: str, values: Sequence[Value], where: Mapping[str, str]) -> Iterator[Row]:
        more, texts = self._texts(table, where)
        kind = self._of(table).kinds.get(column)
        # Values of the column's own type, else no index leads to them.
        some = sorted({str(v) if kind == "text" else int(v) if kind == "int" and str(v).isdigit() else v
                       for v in values if v is not None}, key=repr)
        for at in range(0, len(some), 1000):
            part = some[at:at + 1000]
            yield from list(self._rows(table, f"{quote(column)} IN ({self._marks(len(part))}){more}", [*part, *texts]))

    def mentioning(self, table: Table, column: str, numbers: Collection[int], where: Mapping[str, str]
                   ) -> Iterator[Row]:
        more, texts = self._texts(table, where)
        own, kinds = self._of(table).select(table.key)
        if len(numbers) <= _PATTERNS:
            any_of = "|".join(str(n) for n in sorted(numbers))
            found = list(self._stream(
                f"SELECT {own} FROM {self.real(table.name)} WHERE {quote(column)} REGEXP %s{more}",
                [f"(^|[^0-9])({any_of})([^0-9]|$)", *texts], kinds))
        else:
            wanted = {str(n) for n in numbers}
            found = [row[:-1] for row in self._stream(
                f"SELECT {own}, {quote(column)} FROM {self.real(table.name)} WHERE {quote(column)} IS NOT NULL{more}",
                texts, [*kinds, "text"]) if not wanted.isdisjoint(re.findall(r"\d+", str(row[-1])))]
        for at in range(0, len(found), _AT_ONCE):  # not while the answer is read: more is asked about each row
            yield from list(self.fetch_many(table, found[at:at + _AT_ONCE]))

    def top(self, table: Table) -> int | None:
        found = self.run(f"SELECT MAX({quote(table.key[0])}) FROM {self.real(table.name)}")[0][0]
        return None if found is None else int(found)

    def above(self, table: Table, key: int) -> Iterator[Row]:
        yield from list(self._rows(table, f"{quote(table.key[0])} > %s", (key,)))

    def side_effects(self, written: Mapping[str, Collection[str]]) -> set[str]:
        triggers = [Trigger("", of[len(self.prefix):], "", event, body) for of, event, body in self.run(
            "SELECT event_object_table, event_manipulation, action_statement FROM information_schema.triggers "
            "WHERE trigger_schema = %s", (self.name,)) if of.startswith(self.prefix)]
        return reached(triggers, written, {n[len(self.prefix):]: n for n in self._names()} if triggers else {})

    def _names(self) -> list[str]:
        return [n for (n,) in self.run("SELECT table_name FROM information_schema.tables WHERE table_schema = %s",
                                       (self.name,)) if n.startswith(self.prefix)]

    def broken_references(self, table: Table) -> Iterator[tuple[Key, ForeignColumn]]:
        yield from ()  # the server holds its foreign keys itself

    # --- writing

    def insert(self, table: Table, row: Row) -> Key:
        names = ", ".join(quote(n) for n in row)
        cursor = self._cursor(f"INSERT INTO {self.real(table.name)} ({names}) VALUES ({self._marks(len(row))})",
                              list(row.values()))
        number = cursor.lastrowid
        cursor.close()
        if table.surrogate and table.key[0] not in row:
            return (int(number),)
        return table.key_of(row)

    @staticmethod
    def _marks(count: int) -> str:
        return ", ".join(["%s"] * count)

    def replace_many(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Value, ...]]) -> None:
        rest = [c for c in columns if c not in table.key] or list(columns)
        sets = ", ".join(f"{quote(c)} = VALUES({quote(c)})" for c in rest)
        self._insert_many(table, columns, rows, f" ON DUPLICATE KEY UPDATE {sets}")

    def insert_many(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Value, ...]]) -> None:
        self._insert_many(table, columns, rows, "")

    def _insert_many(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Value, ...]], tail: str) -> None:
        if not rows:
            return
        names = ", ".join(quote(c) for c in columns)
        head = f"INSERT INTO {self.real(table.name)} ({names}) VALUES "
        one = f"({self._marks(len(columns))})"
        part: list[tuple[Value, ...]] = []
        size = 0
        for row in rows:
            part.append(row)
            size += sum(len(v) if isinstance(v, str | bytes) else 8 for v in row)
            if size > 500_000 or len(part) == _AT_ONCE:
                self.run(head + ", ".join([one] * len(part)) + tail, [v for r in part for v in r])
                part, size = [], 0
        if part:
            self.run(head + ", ".join([one] * len(part)) + tail, [v for r in part for v in r])

    def copy_inside(self, source: Database, tables: Sequence[Table],
                    replaced: Sequence[tuple[str, str]] = ()) -> InsideCopy | None:
        if not isinstance(source, MysqlDatabase):
            return None
        if not connecting.same_server(self, source):
            return None
        from nostos.core.database.mysql.server_copy import MysqlInsideCopy

        return MysqlInsideCopy(self, source, tables, replaced)

    def update(self, table: Table, key: Key, values: Row) -> None:
        if not values:
            return
        sets = ", ".join(f"{quote(n)} = %s" for n in values)
        where, which = self._matching(table, dict(zip(table.key, key, strict=True)))
        self.run(f"UPDATE {self.real(table.name)} SET {sets} WHERE {where} LIMIT 1", [*values.values(), *which])

    def remove(self, table: Table, key: Key) -> None:
        where, which = self._matching(table, dict(zip(table.key, key, strict=True)))
        self.run(f"DELETE FROM {self.real(table.name)} WHERE {where} LIMIT 1", which)

    def recount(self, table: Table, column: str, counted: Table, by: str, where: Mapping[str, Value], key: Key,
                through: tuple[Table, str, Mapping[str, Value]] | None = None) -> None:
        tests, bound = self._matching(counted, where)
        if through is not None:
            other, points, wanted = through
            more, values = self._matching(other, wanted)
            tests += (f" AND {quote(points)} IN (SELECT {quote(other.key[0])} FROM {self.real(other.name)} "
                      f"WHERE {more})")
            bound += values
        which, keys = self._matching(table, dict(zip(table.key, key, strict=True)))
        self.run(f"UPDATE {self.real(table.name)} SET {quote(column)} = (SELECT COUNT(*) FROM "
                  f"{self.real(counted.name)} WHERE {quote(by)} <=> %s AND {tests}) WHERE {which}",
                  [key[0], *bound, *keys])

    def clear(self, table: str, column: str | None = None, patterns: Sequence[str] = ()) -> None:
        if column is None:
            self.run(f"DELETE FROM {self.real(table)}")
            return
        for pattern in patterns:
            like = pattern.replace("|", "||").replace("%", "|%").replace("_", "|_").replace("*", "%")
            self.run(f"DELETE FROM {self.real(table)} WHERE {quote(column)} LIKE %s ESCAPE '|'", [like])

    def prepare_mark(self, table: str) -> None:
        self.run(f"CREATE TABLE IF NOT EXISTS {self.real(table)} "
                  "(merge_id VARCHAR(64) PRIMARY KEY, at VARCHAR(40) NOT NULL) ENGINE=InnoDB")

    def mark(self, table: str, name: str, when: str) -> None:
        self.run(f"INSERT INTO {self.real(table)} VALUES (%s, %s)", (name, when))

    # --- schema

    def create_table(self, table: Table) -> None:
        self.run(renamed(table.ddl, "", self.prefix, table.name).replace("%", "%%"))

    def add_column(self, table: Table, column: Column) -> None:
        self.run(f"ALTER TABLE {self.real(table.name)} ADD COLUMN {column_line(table, column)}")

    def change_column(self, table: Table, column: Column) -> None:
        self.run(f"ALTER TABLE {self.real(table.name)} MODIFY COLUMN {column_line(table, column)}")

    def create_index(self, table: str, name: str, ddl: str) -> None:
        self.run(f"ALTER TABLE {self.real(table)} ADD {ddl.replace('%', '%%')}")

    def be_strict(self) -> None:
        self.run("SET SESSION sql_mode = CONCAT(@@sql_mode, ',STRICT_ALL_TABLES')")

    def has_null(self, table: Table, column: str) -> bool:
        return bool(self.run(f"SELECT 1 FROM {self.real(table.name)} WHERE {quote(column)} IS NULL LIMIT 1"))

    def has_duplicates(self, table: Table, columns: Sequence[str]) -> bool:
        names = ", ".join(quote(c) for c in columns)
        full = " AND ".join(f"{quote(c)} IS NOT NULL" for c in columns)
        return bool(self.run(f"SELECT 1 FROM {self.real(table.name)} WHERE {full} GROUP BY {names} "
                             "HAVING COUNT(*) > 1 LIMIT 1"))

    def drop(self, what: str, table: str, name: str) -> None:
        if what == "table":
            self.run(f"DROP TABLE {self.real(table)}")
        else:
            self.run(f"ALTER TABLE {self.real(table)} DROP {what.upper()} {quote(name)}")

    # --- cloning

    def outline(self) -> Outline:
        from nostos.core.database.mysql.build import outline

        return outline(self)

    def build(self, outline: Outline) -> None:
        from nostos.core.database.mysql.build import build

        build(self, outline)

    def finish(self, outline: Outline) -> None:
        from nostos.core.database.mysql.build import finish

        finish(self, outline)

    def views(self) -> list[str]:
        return [n[len(self.prefix):] for (n,) in self.run(
            "SELECT table_name FROM information_schema.views WHERE table_schema = %s", (self.name,))
            if n.startswith(self.prefix)]

    def sizes(self) -> dict[str, tuple[int, int]]:
        return {name[len(self.prefix):]: (int(rows or 0), int(size or 0)) for name, rows, size in self.run(
            "SELECT table_name, table_rows, data_length + index_length FROM information_schema.tables "
            "WHERE table_schema = %s AND table_type = 'BASE TABLE'", (self.name,)) if name.startswith(self.prefix)}

    def warnings(self) -> Iterator[Caution]:
        from nostos.core.database.mysql.cautions import cautions

        yield from cautions(self)
