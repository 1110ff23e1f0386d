"""Writing rows and schema on a server."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Sequence
from contextlib import contextmanager
from functools import cached_property

import psycopg

from nostos.core.database import definitions
from nostos.core.database.column_types import empty_value
from nostos.core.database.protocol import AT_ONCE, Draft
from nostos.core.database.rows.parts import parts
from nostos.core.database.schema import Column, Key, Row, Table, Value
from nostos.core.engines.postgresql.attached import IN_COMMON
from nostos.core.engines.postgresql.reading import PostgresReading
from nostos.core.engines.postgresql.reflection import AND_THEN, at_home, quote
from nostos.core.engines.postgresql.row_sql import RowSql
from nostos.core.engines.server_draft import ServerDraft
from nostos.core.errors import MergeRefused
from nostos.core.expressions import expression

_BYTES = 1_000_000  # of a statement
_STAMPS = expression(r"(?i)\bnow\(|current_|localtime|timestamp\(|\btransaction_")
# Types whose values may be cut or rounded when one is made of another.
_MEASURED = expression(r"(?i)(character|varchar|char|numeric|decimal|smallint|integer|bigint|real|double|timestamp|"
                       r"time|date|interval)\b")


def _look_at(table: Table, column: Column) -> None:
    """Raise SiteError where a column's definition defines more than that."""
    for value in (column.declared, column.default or ""):
        definitions.part(value, "postgresql", f"{table.name}.{column.name}")


class PostgresWriting(PostgresReading):
    """What is written to a database."""

    def _values(self, table: Table, columns: Sequence[str], row: Sequence[Value]) -> list[Value]:
        return [self._own(table, c, v) for c, v in zip(columns, row, strict=True)]

    def insert(self, table: Table, row: Row) -> Key:
        return self._insert(table, list(row), [list(row.values())])[0]

    @contextmanager
    def own_clock(self, table: Table, columns: Sequence[str]) -> Iterator[None]:
        if not self._zone or not (table.name in self._acting or any(
                _STAMPS.search(c.default or "") for c in table.columns)):
            yield
            return
        self.run("SELECT set_config('TimeZone', %s, true)", (self._zone,))
        yield  # else the transaction is taken back, and this with it
        self.run("SET LOCAL TimeZone = 'UTC'")

    @cached_property
    def _zone(self) -> str:
        """The clock of the site's own connections; empty where it is ours."""
        zone = str(self.run("SELECT reset_val FROM pg_settings WHERE name = 'TimeZone'")[0][0])
        return "" if zone in ("UTC", "Etc/UTC", "GMT") else zone

    def insert_rows(self, table: Table, columns: Sequence[str], rows: Sequence[Sequence[Value]]) -> list[Key]:
        return [key for part in parts(rows, AT_ONCE, _BYTES) for key in self._insert(table, columns, part)]

    def _insert(self, table: Table, columns: Sequence[str], rows: Sequence[Sequence[Value]]) -> list[Key]:
        keys = self._of(table).select(table.key)
        tail = f" RETURNING {keys}" if table.key else ""
        if not columns:
            return [key for _ in rows for key in self.run(
                f"INSERT INTO {self.real(table.name)} DEFAULT VALUES{tail}")]
        names = ", ".join(quote(c) for c in columns)
        one = f"({self._marks(len(columns))})"
        inserted = self.run(f"INSERT INTO {self.real(table.name)} ({names}) OVERRIDING SYSTEM VALUE VALUES "
                         + ", ".join([one] * len(rows)) + tail,
                         [v for row in rows for v in self._values(table, columns, row)])
        if table.surrogate and table.key[0] in columns:
            self._catch_up(table, table.key[0])
        return inserted if table.key else [()] * len(rows)

    def _catch_up(self, table: Table, column: str) -> None:
        """A sequence is never behind what was inserted with a key."""
        place = self._sequence(table, column)
        self.run(f"SELECT setval({place}, m) FROM (SELECT max({quote(column)}) AS m FROM {self.held(table.name)}) t, "
                 f"LATERAL (SELECT COALESCE(pg_sequence_last_value({place}::regclass), 0) AS l) s WHERE m > l")

    def _sequence(self, table: Table, column: str) -> str:
        """The sequence that a column's values come from, as SQL."""
        info = table.column(column)
        named = re.fullmatch(r"nextval\((.*)\)", info.default or "") if info is not None else None
        return named.group(1) if named else self.text("pg_get_serial_sequence(%s, %s)",
                                                      (self.real(table.name), column))

    def counter(self, table: Table) -> int | None:
        value = self.run(f"SELECT pg_sequence_last_value({self._sequence(table, table.key[0])}::regclass)")[0][0]
        return None if value is None else int(value)

    @contextmanager
    def holding_on(self) -> Iterator[None]:
        with self._saved_point(psycopg.Error):
            yield
        self.run("RELEASE SAVEPOINT nostos_rows")

    def insert_many(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Value, ...]]) -> None:
        if not rows:
            return
        if not columns:  # a table without any
            self._insert(table, columns, rows)
            return
        names = ", ".join(quote(c) for c in columns)
        with self._connection.cursor() as cursor, cursor.copy(
                f"COPY {self.real(table.name)} ({names}) FROM STDIN".encode()) as copy:
            for row in rows:
                copy.write_row(row)

    def replace_many(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Value, ...]]) -> None:
        places = [columns.index(k) for k in table.key]
        for where, values in self._keyed(table, [tuple(row[p] for p in places) for row in rows]):
            self.run(f"DELETE FROM {self.held(table.name)} WHERE {where}", values)
        self.insert_many(table, columns, rows)

    def update(self, table: Table, key: Key, values: Row) -> None:
        if not values:
            return
        sets = ", ".join(f"{quote(n)} = %s" for n in values)
        where, which = self._matching(table, dict(zip(table.key, key, strict=True)))
        self.run(f"UPDATE {self.held(table.name)} SET {sets} WHERE {where}",
                 [*self._values(table, list(values), list(values.values())), *which])

    def update_rows(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Key, Sequence[Value]]]) -> None:
        types = {c.name: c.declared for c in table.columns}
        if len(rows) == 1 or not columns or any(v is None for key, _ in rows for v in key):
            super().update_rows(table, columns, rows)
            return
        names = [*table.key, *columns]
        # The first row says what types the columns of the list have.
        first = ", ".join(f"%s::{types[n]}" for n in names)
        rest = f"({self._marks(len(names))})"
        sets = ", ".join(f"{quote(c)} = s.v{number}" for number, c in enumerate(columns, start=len(table.key)))
        aliases = ", ".join(f"v{n}" for n in range(len(names)))
        which = " AND ".join(f"t.{quote(k)} = s.v{n}" for n, k in enumerate(table.key))
        for part in parts([(*key, *values) for key, values in rows], AT_ONCE, _BYTES):
            rows_sql = ", ".join([f"({first})", *[rest] * (len(part) - 1)])
            self.run(f"UPDATE {self.held(table.name)} t SET {sets} FROM (VALUES {rows_sql}) s({aliases}) WHERE {which}",
                     [v for row in part for v in self._values(table, names, row)])

    def drafted(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Key, Sequence[Value]]]
                ) -> Draft | None:
        try:
            return ServerDraft(self, table, columns, rows)
        except psycopg.Error:  # it may make no table, or a value does not fit
            return None

    def fill_draft(self, name: str, table: Table, rows: Sequence[Sequence[Value]]) -> None:
        with self._connection.cursor() as cursor, cursor.copy(f"COPY {quote(name)} FROM STDIN".encode()) as copy:
            for row in rows:
                copy.write_row(row)
        self.run(f"ANALYZE {quote(name)}")  # so that the server knows how few they are

    def draft_rows(self, name: str, table: Table) -> Iterator[tuple[Value, ...]]:
        return self.stream(f"SELECT {RowSql(table, quote(name)).select(table.names)} FROM {quote(name)}")

    def draft_sums(self, name: str, table: Table, on: str, hold: bool) -> str:
        sql = self._of(table)
        # What others do with these rows, but for changing and removing them, goes on.
        lock = " FOR NO KEY UPDATE OF t NOWAIT" if hold else ""
        return (f"SELECT {sql.sums('p')} FROM (SELECT {sql.payload(table.stored)} AS p FROM {quote(name)} s "
                f"JOIN {self.held(table.name)} t ON {on}{lock}) r")

    def draft_update(self, name: str, table: Table, on: str, sets: Sequence[tuple[str, str]]) -> str:
        return (f"UPDATE {self.held(table.name)} t SET " + ", ".join(f"{c} = s.{v}" for c, v in sets)
                + f" FROM {quote(name)} s WHERE {on}")

    def remove(self, table: Table, key: Key) -> None:
        where, which = self._matching(table, dict(zip(table.key, key, strict=True)))
        self.run(f"DELETE FROM {self.held(table.name)} WHERE {where}", which)

    def remove_rows(self, table: Table, keys: Sequence[Key]) -> None:
        for where, values in self._keyed(table, keys):
            self.run(f"DELETE FROM {self.held(table.name)} WHERE {where}", values)

    def mark(self, table: str, name: str, when: str) -> None:
        self.run(f"CREATE TABLE IF NOT EXISTS {self.real(table)} (merge_id varchar(64) PRIMARY KEY, "
                 "at varchar(40) NOT NULL)")
        self.run(f"INSERT INTO {self.real(table)} VALUES (%s, %s)", (name, when))

    # --- schema

    def create_table(self, table: Table) -> None:
        statements = table.ddl.split(AND_THEN)
        statement = definitions.of_table(statements, (table.name, self.prefix + table.name))
        for sql in statements:
            self.run_one(at_home(sql, self._schema))
        for name, ddl in table.indexes:
            self._index(name, ddl, statement)
        self._share(table)

    def _share(self, table: Table) -> None:
        """Let others do with a new table, and with what gives its numbers out, what they may do with all the others."""
        gives_out = [str(n) for (n,) in self.run(
            "SELECT s.relname FROM pg_class s JOIN pg_depend d ON d.classid = 'pg_class'::regclass AND d.objid = s.oid "
            "AND d.refobjid = %s::regclass AND d.deptype IN ('a', 'i') WHERE s.relkind = 'S'",
            (self.real(table.name),))]
        for word, kinds, names in (("TABLE", "rp", [self.prefix + table.name]), ("SEQUENCE", "S", gives_out)):
            for name in names:
                for (sql,) in self.run(IN_COMMON, (kinds, name, kinds, name)):
                    self.run(str(sql).replace("{}", f"{word} {self.in_schema(name)}"))

    def add_column(self, table: Table, column: Column, filled: Value = None) -> None:
        _look_at(table, column)
        line = f"{quote(column.name)} {column.declared}"
        if column.generated:
            line += f" GENERATED ALWAYS AS ({column.default}) STORED"
        elif column.default is not None:
            line += f" DEFAULT {column.default}"
        solid = not column.nullable and not column.generated
        counts = re.fullmatch(r"nextval\('(.*)'::regclass\)", column.default or "")
        if counts:  # what it counts with comes along, as the other side has it
            statements = table.ddl.split(AND_THEN)
            definitions.of_table(statements, (table.name, self.prefix + table.name))
            made = [sql for sql in statements if counts.group(1).rpartition(".")[2].strip('"') in sql]
            for sql in made:
                if sql.startswith("CREATE SEQUENCE IF NOT EXISTS "):
                    self.run_one(at_home(sql, self._schema))
            self.run(f"ALTER TABLE {self.real(table.name)} ADD COLUMN {line}{' NOT NULL' if solid else ''}")
            for sql in made:
                if sql.startswith("ALTER SEQUENCE ") and " OWNED BY " in sql:
                    self.run_one(at_home(sql, self._schema))
            return
        if solid and column.default is None:
            value = empty_value(column) if filled is None else filled
            value = value if isinstance(value, bytes) else str(value)
            default = self.text("%s", (value,))
            self.run(f"ALTER TABLE {self.real(table.name)} ADD COLUMN {line} NOT NULL DEFAULT {default}")
            self.run(f"ALTER TABLE {self.real(table.name)} ALTER COLUMN {quote(column.name)} DROP DEFAULT")
            return
        self.run(f"ALTER TABLE {self.real(table.name)} ADD COLUMN {line}{' NOT NULL' if solid else ''}")

    def change_column(self, table: Table, column: Column) -> None:
        place = f"ALTER TABLE {self.real(table.name)} ALTER COLUMN {quote(column.name)}"
        if column.generated:
            raise MergeRefused(f"The column {table.name}.{column.name} follows from others: it cannot be defined anew.",
                               next_step="Make the change on live by hand, then merge.")
        _look_at(table, column)
        self.run(f"{place} DROP DEFAULT")
        self.run(f"{place} TYPE {column.declared} USING {quote(column.name)}::{column.declared}")
        if column.default is not None:
            self.run(f"{place} SET DEFAULT {column.default}")
        self.run(f"{place} {'DROP' if column.nullable else 'SET'} NOT NULL")

    def fits(self, table: Table, column: Column) -> bool:
        target_table = self.tables().get(table.name)
        now = target_table.column(column.name) if target_table is not None else None
        if now is None or now.declared == column.declared or not (
                _MEASURED.match(now.declared) and _MEASURED.match(column.declared)):
            return True
        name = quote(column.name)
        try:
            with self.holding_on():
                return not self.run(f"SELECT 1 FROM {self.real(table.name)} WHERE "
                                    f"{name}::{column.declared}::{now.declared} IS DISTINCT FROM {name} LIMIT 1")
        except psycopg.Error as error:
            if not self.refused_a_row(error):
                raise
            return False

    def create_index(self, table: str, name: str, ddl: str) -> None:
        partitions = {str(n) for (n,) in self.run(
            "SELECT c.relname FROM pg_partition_tree(%s::regclass) t JOIN pg_class c ON c.oid = t.relid",
            (self.real(table),))}
        self._index(name, ddl, {table, self.prefix + table, *partitions})

    def _index(self, name: str, ddl: str, statement: Collection[str]) -> None:
        """statement: the names of the table and its partitions."""
        self.run_one(at_home(definitions.whole(ddl, "postgresql", "index", name, statement), self._schema))

    def add_constraint(self, table: Table, name: str, ddl: str) -> None:
        self._due()
        self.run_one(f"ALTER TABLE {self.real(table.name)} ADD CONSTRAINT {quote(name)} "
                     + definitions.part(ddl, "postgresql", f"{table.name}.{name}"))

    def _due(self) -> None:
        """See now to what waits for the end of the transaction: with that open, no table can be altered."""
        if self.in_transaction:
            self.run("SET CONSTRAINTS ALL IMMEDIATE")
            self.run("SET CONSTRAINTS ALL DEFERRED")

    def drop(self, what: str, table: str, name: str) -> None:
        self._due()
        if what == "constraint":
            self.run(f"ALTER TABLE {self.real(table)} DROP CONSTRAINT IF EXISTS {quote(name)}")
        elif what == "column":
            self.run(f"ALTER TABLE {self.real(table)} DROP COLUMN {quote(name)}")
        else:
            place = self.real(name) if what == "table" else self.in_schema(name)
            self.run(f"DROP {what.upper()} {place}")
