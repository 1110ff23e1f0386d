"""Writing rows and schema in a SQLite file."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from itertools import groupby

from nostos.core.database import definitions
from nostos.core.database.column_types import empty_value
from nostos.core.database.protocol import AT_ONCE
from nostos.core.database.schema import Column, Key, Row, Table, Value
from nostos.core.engines.sqlite.reading import SqliteReading
from nostos.core.engines.sqlite.session import _bound, quote
from nostos.core.errors import MergeRefused

_HIGHEST = 1 << 62  # of keys that the next one is counted on from


class SqliteWriting(SqliteReading):
    """What is written to a database."""

    def insert(self, table: Table, row: Row) -> Key:
        marks, bound = [], []
        for value in row.values():
            mark, plain = _bound(value)
            marks.append(mark)
            bound.append(plain)
        names = ", ".join(quote(n) for n in row)
        sql = f"({names}) VALUES ({', '.join(marks)})" if row else "DEFAULT VALUES"
        cursor = self._run(f"INSERT INTO {quote(table.name)} {sql}", bound)
        if table.surrogate and table.key[0] not in row:
            return (cursor.lastrowid,)
        return table.key_of(row)

    def refused_a_row(self, error: BaseException) -> bool:
        return isinstance(error, sqlite3.IntegrityError | sqlite3.DataError | sqlite3.InterfaceError)

    @contextmanager
    def holding_on(self) -> Iterator[None]:
        self._run("SAVEPOINT nostos_rows")
        try:
            yield
        except BaseException:
            if self._driver.in_transaction:
                self._run("ROLLBACK TO nostos_rows")
            raise
        self._run("RELEASE nostos_rows")

    def _many(self, sql: str, rows: Sequence[Sequence[Value]]) -> int:
        """One statement for many rows. Returns how many it touched."""
        return self._driver.many(sql, rows)

    def insert_rows(self, table: Table, columns: Sequence[str], rows: Sequence[Sequence[Value]]) -> list[Key]:
        keyed = not table.surrogate or table.key[0] in columns
        if len(rows) == 1 or (not keyed and self._fires(table.name)) or any(
                _bound(v)[0] != "?" for row in rows for v in row):
            return super().insert_rows(table, columns, rows)
        names = [*columns]
        if not keyed:  # nobody else writes in this transaction
            last = self._last(table)
            if last is None:
                return super().insert_rows(table, columns, rows)
            names.append(table.key[0])
            rows = [(*row, last + number) for number, row in enumerate(rows, start=1)]
        self._many(f"INSERT INTO {quote(table.name)} ({', '.join(map(quote, names))}) "
                   f"VALUES ({', '.join('?' * len(names))})", rows)
        places = [names.index(k) for k in table.key]
        return [tuple(row[p] for p in places) for row in rows]

    def _fires(self, table: str) -> bool:
        return self._run("SELECT 1 FROM sqlite_master WHERE type = 'trigger' AND tbl_name = ? COLLATE NOCASE LIMIT 1",
                         (table,)).fetchone() is not None

    def _last(self, table: Table) -> int | None:
        """The highest key that a table gave out; None where the next does not follow from it."""
        last = self.top(table) or 0
        if self._run("SELECT 1 FROM sqlite_master WHERE name = 'sqlite_sequence'").fetchone():
            row = self._run("SELECT seq FROM sqlite_sequence WHERE name = ?", (table.name,)).fetchone()
            last = max(last, int(row[0])) if row else last
        return last if 0 <= last < _HIGHEST else None

    def update_rows(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Key, Sequence[Value]]]) -> None:
        bound = [(*values, *key) for key, values in rows]
        if len(rows) == 1 or any(v is None for key, _ in rows for v in key) or any(
                _bound(v)[0] != "?" for row in bound for v in row):
            super().update_rows(table, columns, rows)
            return
        sets, which = ", ".join(f"{quote(c)} = ?" for c in columns), " AND ".join(f"{quote(k)} = ?" for k in table.key)
        self._sure(table, self._many(f"UPDATE {quote(table.name)} SET {sets} WHERE {which}", bound), len(rows))

    def remove_rows(self, table: Table, keys: Sequence[Key]) -> None:
        if len(keys) == 1 or any(v is None or _bound(v)[0] != "?" for key in keys for v in key):
            super().remove_rows(table, keys)
            return
        which = " AND ".join(f"{quote(k)} = ?" for k in table.key)
        self._sure(table, self._many(f"DELETE FROM {quote(table.name)} WHERE {which}", keys), len(keys))

    @staticmethod
    def _sure(table: Table, touched: int, wanted: int) -> None:
        if touched != wanted:
            raise sqlite3.IntegrityError(f"{table.name} has {touched} of {wanted} rows that were to be written")

    def update(self, table: Table, key: Key, values: Row) -> None:
        if not values:
            return
        sets, bound = [], []
        for name, value in values.items():
            mark, plain = _bound(value)
            sets.append(f"{quote(name)} = {mark}")
            bound.append(plain)
        where, which = self._matching(dict(zip(table.key, key, strict=True)))
        done = self._run(f"UPDATE {quote(table.name)} SET {', '.join(sets)} WHERE {where}", bound + which)
        if done.rowcount != 1:
            raise sqlite3.IntegrityError(f"{table.name} has {done.rowcount} rows with key {key!r}, not one")

    def remove(self, table: Table, key: Key) -> None:
        where, which = self._matching(dict(zip(table.key, key, strict=True)))
        done = self._run(f"DELETE FROM {quote(table.name)} WHERE {where}", which)
        if done.rowcount != 1:
            raise sqlite3.IntegrityError(f"{table.name} has {done.rowcount} rows with key {key!r}, not one")

    def recount(self, table: Table, column: str, counted: Table, by: str, where: Mapping[str, Value],
                keys: Sequence[Value], through: tuple[Table, str, Mapping[str, Value]] | None = None) -> None:
        tests, bound = self._matching(where)
        if through is not None:
            other, points, wanted = through
            more, values = self._matching(wanted)
            tests += (f" AND {quote(points)} IN (SELECT {quote(other.key[0])} FROM {quote(other.name)} WHERE {more})")
            bound += values
        column_sql = f"{quote(table.name)}.{quote(table.key[0])}"
        source = f"{quote(counted.name)} AS nostos_counted"
        for at in range(0, len(keys), AT_ONCE):
            part = keys[at:at + AT_ONCE]
            self._run(f"UPDATE {quote(table.name)} SET {quote(column)} = (SELECT COUNT(*) FROM {source} WHERE "
                      f"nostos_counted.{quote(by)} = {column_sql} AND {tests}) "
                      f"WHERE {column_sql} IN ({', '.join('?' * len(part))})",
                      [*bound, *part])

    def clear(self, table: str, column: str | None = None, patterns: Sequence[str] = ()) -> None:
        if column is None:
            self._run(f"DELETE FROM {quote(table)}")
            return
        plain = [p for p in patterns if "*" not in p]
        if plain:
            self._run(f"DELETE FROM {quote(table)} WHERE {quote(column)} IN ({', '.join('?' * len(plain))})", plain)
        for pattern in (p for p in patterns if "*" in p):
            like = pattern.replace("|", "||").replace("%", "|%").replace("_", "|_").replace("*", "%")
            self._run(f"DELETE FROM {quote(table)} WHERE {quote(column)} LIKE ? ESCAPE '|'", [like])

    def mark(self, table: str, name: str, when: str) -> None:
        self._run(f"CREATE TABLE IF NOT EXISTS {quote(table)} (merge_id TEXT PRIMARY KEY, at TEXT NOT NULL)")
        self._run(f"INSERT INTO {quote(table)} VALUES (?, ?)", (name, when))

    def create_table(self, table: Table) -> None:
        self._run(definitions.whole(table.ddl, "sqlite", "table", table.name))
        for name, ddl in table.indexes:
            self.create_index(table.name, name, ddl)

    def change_column(self, table: Table, column: Column) -> None:
        """By the schema table, as SQLite's documentation on altering tables has it for changes that leave the content
        on disk as it is."""
        reason = self.cannot_change(table)
        if reason is not None:
            raise MergeRefused(reason, next_step="Make the change on live by hand, then merge.")
        self._define(table.name, table.ddl)

    def add_column(self, table: Table, column: Column, filled: Value = None) -> None:
        if not column.nullable and column.default is None and not column.generated:
            self._add_filled(table, column, empty_value(column) if filled is None else filled)
            return
        rest = "" if column.nullable else " NOT NULL"
        if column.default is not None:
            rest += f" DEFAULT {column.default}"
        line = definitions.part(f"{column.declared}{rest}", "sqlite", f"{table.name}.{column.name}")
        self._run(f"ALTER TABLE {quote(table.name)} ADD COLUMN {quote(column.name)} {line}")

    def _add_filled(self, table: Table, column: Column, value: Value) -> None:
        """A column that may not be empty and has no default, which SQLite adds only with one: added with a value for
        every row, which is written into each, and then defined as it is to be."""
        declared = definitions.part(column.declared, "sqlite", f"{table.name}.{column.name}")
        plain = f"{quote(column.name)} {declared} NOT NULL"
        literal = str(value) if isinstance(value, int | float) else (
            f"X'{value.hex()}'" if isinstance(value, bytes) else "'" + str(value).replace("'", "''") + "'")
        self._run(f"ALTER TABLE {quote(table.name)} ADD COLUMN {plain} DEFAULT {literal}")
        self._run(f"UPDATE {quote(table.name)} SET {quote(column.name)} = {quote(column.name)}")
        ddl = str(self._run("SELECT sql FROM sqlite_master WHERE type='table' AND name=?", (table.name,)).fetchone()[0])
        head, table_sql, tail = ddl.rpartition(f"{plain} DEFAULT {literal}")
        if not table_sql:
            raise MergeRefused(f"SQLite wrote the column {table.name}.{column.name} otherwise than was expected.",
                               next_step="Make the change on live by hand, then merge.")
        self._define(table.name, head + plain + tail)

    def _define(self, table: str, ddl: str) -> None:
        """Write a table's definition anew, where the content on disk stays as it is."""
        definitions.whole(ddl, "sqlite", "table", table)
        version = self._run("PRAGMA schema_version").fetchone()[0]
        self._run("PRAGMA writable_schema = ON")
        try:
            self._run("UPDATE sqlite_master SET sql=? WHERE type='table' AND name=?", (ddl, table))
            self._run(f"PRAGMA schema_version = {version + 1}")
        finally:
            self._run("PRAGMA writable_schema = OFF")

    def create_index(self, table: str, name: str, ddl: str) -> None:
        self._run(definitions.whole(ddl, "sqlite", "index", name, (table,)))

    def put_raw(self, name: str, rows: Iterable[Sequence[Value]]) -> None:
        self._run(f"DELETE FROM {quote(name)}")
        columns = len(self._run(f"PRAGMA table_info({quote(name)})").fetchall())
        self._driver.many(f"INSERT INTO {quote(name)} VALUES ({', '.join('?' * columns)})", list(rows))

    def insert_many(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Value, ...]]) -> None:
        names = ", ".join(quote(c) for c in columns)
        for marks, some in groupby(rows, lambda row: ", ".join(_bound(v)[0] for v in row)):  # in their order
            self._many(f"INSERT INTO {quote(table.name)} ({names}) VALUES ({marks})",
                       [[_bound(v)[1] for v in row] for row in some])

    def replace_many(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Value, ...]]) -> None:
        places = [columns.index(k) for k in table.key]
        matchings = [self._matching(dict(zip(table.key, (row[p] for p in places), strict=True))) for row in rows]
        for where, some in groupby(matchings, lambda one: one[0]):
            self._many(f"DELETE FROM {quote(table.name)} WHERE {where}", [which for _, which in some])
        self.insert_many(table, columns, rows)

    def drop(self, what: str, table: str, name: str) -> None:
        if what == "column":
            self._run(f"ALTER TABLE {quote(table)} DROP COLUMN {quote(name)}")
        else:
            self._run(f"DROP {what.upper()} {quote(name)}")
