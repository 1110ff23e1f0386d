"""Writing rows and schema on a server."""

from __future__ import annotations

import re
import secrets
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from functools import cached_property

from nostos.core.database import definitions
from nostos.core.database.protocol import AT_ONCE, Draft
from nostos.core.database.rows.parts import parts
from nostos.core.database.schema import Column, Key, Row, Table, Value
from nostos.core.engines.mysql.reading import MysqlReading
from nostos.core.engines.mysql.reflection import (
    CONSTRAINTS,
    column_line,
    constraints_of,
    keys_by_name,
    quote,
    renamed,
    with_sequences,
)
from nostos.core.engines.mysql.row_sql import RowSql, bound
from nostos.core.engines.server_draft import ServerDraft
from nostos.core.expressions import expression

_AT_A_TIME = 100  # rows of a statement that changes many
_BYTES = 500_000  # of a statement
_SHOWN = expression(r"(?i)timestamp")
_STAMPS = expression(r"(?i)current_timestamp|\bnow\(|curdate|curtime|localtime")
_TEXTS = expression(r"(?i)\w*(?:char|text)\b")  # types


def _alike(values: Sequence[Value]) -> bool:
    """Whether values can stand in one column of a table that a statement brings along, and be what they are."""
    return len({type(v) for v in values if v is not None}) <= 1 and not any(
        isinstance(v, bytes | float) or bound(v) is not v for v in values)


def _line(table: Table, column: Column) -> str:
    """A column's definition, which defines that alone."""
    return definitions.part(column_line(table, column), "mysql", f"{table.name}.{column.name}")


class MysqlWriting(MysqlReading):
    """What is written to a database."""

    def insert(self, table: Table, row: Row) -> Key:
        names = ", ".join(quote(n) for n in row)
        cursor = self._cursor(f"INSERT INTO {self.real(table.name)} ({names}) VALUES ({self._marks(len(row))})",
                              list(row.values()))
        number = cursor.lastrowid
        cursor.close()
        if table.surrogate and table.key[0] not in row:
            return (int(number),)
        return table.key_of(row)

    @contextmanager
    def holding_on(self) -> Iterator[None]:
        with self._saved_point(self.driver.MySQLError):
            yield

    @contextmanager
    def unheld_parents(self) -> Iterator[None]:
        self.run("SET SESSION foreign_key_checks = 0")
        try:
            yield
        finally:
            with suppress(self.driver.MySQLError):
                self.run("SET SESSION foreign_key_checks = 1")

    @contextmanager
    def own_clock(self, table: Table, columns: Sequence[str]) -> Iterator[None]:
        # Values of this type are read and written as the session's clock has them.
        shown = any(_SHOWN.match(c.declared) for c in table.columns if c.name in columns)
        if not self._zone or shown or not (_STAMPS.search(table.ddl) or table.name in self._acting):
            yield
            return
        self.run("SET time_zone = %s", (self._zone,))
        try:
            yield
        finally:
            with suppress(self.driver.MySQLError):
                self.run("SET time_zone = '+00:00'")

    @cached_property
    def _zone(self) -> str:
        """The clock of the site's own connections; empty where it is ours."""
        zone, system = map(str, self.run("SELECT @@global.time_zone, @@system_time_zone")[0])
        return "" if (system if zone == "SYSTEM" else zone) in ("UTC", "+00:00") else zone

    def insert_rows(self, table: Table, columns: Sequence[str], rows: Sequence[Sequence[Value]]) -> list[Key]:
        keyed = not table.surrogate or table.key[0] in columns
        if len(rows) == 1 or not columns or not (keyed or self._tells_keys):
            return super().insert_rows(table, columns, rows)
        names = ", ".join(quote(c) for c in columns)
        head = f"INSERT INTO {self.real(table.name)} ({names}) VALUES "
        tail = "" if keyed else f" RETURNING {quote(table.key[0])}"
        one = f"({self._marks(len(columns))})"
        keys: list[Key] = []
        for part in parts(rows, AT_ONCE, _BYTES):
            result = self.run(head + ", ".join([one] * len(part)) + tail, [v for r in part for v in r])
            keys += [(int(number),) for (number,) in result]
        if keyed:
            places = [columns.index(k) for k in table.key]
            return [tuple(row[p] for p in places) for row in rows]
        return keys

    @cached_property
    def _tells_keys(self) -> bool:
        """Whether a statement that adds rows can give back their keys: MariaDB from 10.5 on."""
        version = self.version()
        return "MariaDB" in version and tuple(map(int, re.findall(r"\d+", version)[:2])) >= (10, 5)

    def update_rows(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Key, Sequence[Value]]]) -> None:
        kinds = self._of(table).kinds
        by_column = zip(*(values for _, values in rows), strict=True)
        if len(rows) == 1 or len(table.key) != 1 or kinds[table.key[0]] != "int" or not all(map(_alike, by_column)):
            super().update_rows(table, columns, rows)
            return
        # What is to be written, as a table beside this one: its rows come first, so that an index leads to these alone.
        names = [f"c{n}" for n in range(len(columns))]
        first = "SELECT %s AS k, " + ", ".join(f"%s AS {n}" for n in names)
        more = "SELECT " + self._marks(len(columns) + 1)
        sets = ", ".join(f"t.{quote(c)} = s.{n}" for c, n in zip(columns, names, strict=True))
        for part in parts([(*key, *values) for key, values in rows], _AT_A_TIME, _BYTES):
            union = " UNION ALL ".join([first, *[more] * (len(part) - 1)])
            self.run(f"UPDATE ({union}) s STRAIGHT_JOIN {self.real(table.name)} t FORCE INDEX (PRIMARY) "
                     f"ON t.{quote(table.key[0])} = s.k SET {sets}", [v for row in part for v in row])

    def drafted(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Key, Sequence[Value]]]
                ) -> Draft | None:
        try:
            return ServerDraft(self, table, columns, rows)
        except self.driver.MySQLError:  # it may make no table, or not of these columns; or a value does not fit
            return None

    def fill_draft(self, name: str, table: Table, rows: Sequence[Sequence[Value]]) -> None:
        one = f"({self._marks(len(table.columns))})"
        for part in parts(rows, AT_ONCE, _BYTES):
            self.run(f"INSERT INTO {quote(name)} VALUES " + ", ".join([one] * len(part)),
                     [v for row in part for v in row])

    def draft_rows(self, name: str, table: Table) -> Iterator[tuple[Value, ...]]:
        wanted, kinds = RowSql(table, quote(name)).select(table.names)
        return self._stream(f"SELECT {wanted} FROM {quote(name)}", (), kinds)

    def _draft_joined(self, name: str, table: Table, on: str) -> str:
        """The draft's rows come first, in their order, so that an index leads to these alone."""
        return f"{quote(name)} s STRAIGHT_JOIN {self.real(table.name)} t FORCE INDEX (PRIMARY) ON {on}"

    def draft_sums(self, name: str, table: Table, on: str, hold: bool) -> str:
        lock = "" if not hold else " FOR UPDATE NOWAIT" if self._may_refuse_to_wait() else " FOR UPDATE"
        return f"SELECT {self._of(table).sums(table.stored)} FROM {self._draft_joined(name, table, on)}{lock}"

    def draft_update(self, name: str, table: Table, on: str, sets: Sequence[tuple[str, str]]) -> str:
        return f"UPDATE {self._draft_joined(name, table, on)} SET " + ", ".join(f"t.{c} = s.{v}" for c, v in sets)

    def remove_rows(self, table: Table, keys: Sequence[Key]) -> None:
        if len(keys) == 1 or len(table.key) != 1 or self._of(table).kinds[table.key[0]] != "int":
            super().remove_rows(table, keys)
            return
        for where, values in self._keyed(table, keys):
            self.run(f"DELETE t FROM {self.real(table.name)} t FORCE INDEX (PRIMARY) WHERE t.{where}", values)

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
        for part in parts(rows, AT_ONCE, _BYTES):
            self.run(head + ", ".join([one] * len(part)) + tail, [v for r in part for v in r])

    def update(self, table: Table, key: Key, values: Row) -> None:
        if not values:
            return
        sets = ", ".join(f"{quote(n)} = %s" for n in values)
        where, which = self._matching(table, dict(zip(table.key, key, strict=True)))
        self.run(f"UPDATE {self.real(table.name)} SET {sets} WHERE {where} LIMIT 1", [*values.values(), *which])

    def remove(self, table: Table, key: Key) -> None:
        where, which = self._matching(table, dict(zip(table.key, key, strict=True)))
        self.run(f"DELETE FROM {self.real(table.name)} WHERE {where} LIMIT 1", which)

    def prepare_mark(self, table: str) -> None:
        self.run(f"CREATE TABLE IF NOT EXISTS {self.real(table)} "
                  "(merge_id VARCHAR(64) PRIMARY KEY, at VARCHAR(40) NOT NULL) ENGINE=InnoDB")

    def mark(self, table: str, name: str, when: str) -> None:
        self.run(f"INSERT INTO {self.real(table)} VALUES (%s, %s)", (name, when))

    def create_table(self, table: Table) -> None:
        ddl = renamed(table.ddl, "", self.prefix, table.name)
        if self.beside is not None:  # sequences are the site's own, and stay
            ddl = with_sequences(ddl, self.prefix, self.beside)
        keys = keys_by_name(ddl)
        for name in keys.keys() & self._constraint_names() if keys else ():  # such names are unique a database
            ddl = ddl.replace(f"CONSTRAINT `{name}` FOREIGN KEY", "FOREIGN KEY")
        self.run_one(definitions.whole(ddl, "mysql", "table", self.prefix + table.name))

    def _constraint_names(self) -> set[str]:
        return {str(n) for (n,) in self.run("SELECT constraint_name FROM information_schema.table_constraints "
                                            "WHERE constraint_schema = %s", (self.name,))}

    beside: str | None = None  # while tables are filled beside a site's own: what the names of these begin with

    def add_column(self, table: Table, column: Column, filled: Value = None) -> None:
        line = f"ALTER TABLE {self.real(table.name)} ADD COLUMN {_line(table, column)}"
        if filled is None:
            self.run(line)
            return
        self.run(f"{line} DEFAULT (%s)", (filled,))
        self.run(f"ALTER TABLE {self.real(table.name)} ALTER COLUMN {quote(column.name)} DROP DEFAULT")

    def change_column(self, table: Table, column: Column) -> None:
        self.run(f"ALTER TABLE {self.real(table.name)} MODIFY COLUMN {_line(table, column)}")

    def fits(self, table: Table, column: Column) -> bool:
        """By a table of this session's alone: what is refused there, or comes out as something else, does not fit."""
        if column.generated:
            return True
        scratch, name = quote(f"nostos_fits_{secrets.token_hex(8)}"), quote(column.name)
        line = re.sub(r"(?i) AUTO_INCREMENT\b", "", _line(table, column))
        try:
            self.run(f"CREATE TEMPORARY TABLE {scratch} SELECT DISTINCT {name}, {name} AS nostos_was "
                     f"FROM {self.real(table.name)}")
            self.run(f"ALTER TABLE {scratch} MODIFY COLUMN {line}")
            whole = f" OR CHAR_LENGTH({name}) <> CHAR_LENGTH(nostos_was)" if _TEXTS.match(column.declared) else ""
            return not self.run(f"SELECT 1 FROM {scratch} WHERE NOT ({name} <=> nostos_was){whole} LIMIT 1")
        except self.driver.MySQLError as error:
            if not self.refused_a_row(error):
                raise
            return False
        finally:
            with suppress(self.driver.MySQLError):
                self.run(f"DROP TEMPORARY TABLE IF EXISTS {scratch}")

    def create_index(self, table: str, name: str, ddl: str) -> None:
        self.run_one(f"ALTER TABLE {self.real(table)} ADD {definitions.part(ddl, 'mysql', f'{table}.{name}')}")

    def be_strict(self) -> None:
        self.run("SET SESSION sql_mode = CONCAT(@@sql_mode, ',STRICT_ALL_TABLES')")

    def add_constraint(self, table: Table, name: str, ddl: str) -> None:
        called = {text: n for n, text in keys_by_name(table.ddl).items()}.get(ddl, "" if "FOREIGN KEY" in ddl else name)
        # A check's name is its table's own on MariaDB.
        free = ("FOREIGN KEY" not in ddl and "MariaDB" in self.version()) or called not in self._constraint_names()
        prefix_sql = f"CONSTRAINT {quote(called)} " if called and free and called != ddl else ""
        ddl_here = re.sub(r"REFERENCES `", lambda _: f"REFERENCES `{self.prefix}", ddl, count=1)
        self.run_one(f"ALTER TABLE {self.real(table.name)} ADD {prefix_sql}"
                     + definitions.part(ddl_here, "mysql", f"{table.name}.{name}"))

    def _drop_constraint(self, table: str, name: str) -> None:
        ddl = self.definition(table)
        wanted = constraints_of(renamed(ddl, self.prefix, "", table)).get(name)
        for called, text in CONSTRAINTS.findall(ddl):
            if wanted is not None and text.replace(f"REFERENCES `{self.prefix}", "REFERENCES `", 1) == wanted:
                what = "FOREIGN KEY" if text.startswith("FOREIGN") else "CONSTRAINT"
                self.run(f"ALTER TABLE {self.real(table)} DROP {what} {quote(called)}")

    def drop(self, what: str, table: str, name: str) -> None:
        if what == "constraint":
            self._drop_constraint(table, name)
        elif what == "table":
            self.run(f"DROP TABLE {self.real(table)}")
        else:
            self.run(f"ALTER TABLE {self.real(table)} DROP {what.upper()} {quote(name)}")
