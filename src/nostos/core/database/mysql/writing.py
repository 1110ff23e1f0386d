"""Writing rows and schema on a server."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from nostos.core.database.mysql.reading import MysqlReading
from nostos.core.database.mysql.reflection import column_line, quote, renamed
from nostos.core.database.mysql.session import _AT_ONCE
from nostos.core.database.schema import Column, Key, Row, Table, Value


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

    def drop(self, what: str, table: str, name: str) -> None:
        if what == "table":
            self.run(f"DROP TABLE {self.real(table)}")
        else:
            self.run(f"ALTER TABLE {self.real(table)} DROP {what.upper()} {quote(name)}")
