"""Reading the rows of a SQLite file."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping, Sequence

from nostos.core.database.outline import Trigger, reached
from nostos.core.database.protocol import AT_ONCE, Block, ForeignColumn
from nostos.core.database.rows.digests import block_of
from nostos.core.database.schema import Column, Key, Row, Table, Value
from nostos.core.engines.sqlite.session import SqliteSession, _bound, quote
from nostos.core.values.packed import pack

# What SQLite has, or is often given, that reaches out of the database. A program's own functions are unknown to us, and
# so refused by SQLite itself.
_DOES_MORE = frozenset(("load_extension", "fts3_tokenizer", "readfile", "writefile", "edit", "eval", "fileio_write"))


class SqliteReading(SqliteSession):
    """What is read of a database."""

    def count(self, table: str) -> int:
        return int(self._run(f"SELECT count(*) FROM {quote(table)}").fetchone()[0])

    def end(self, table: Table, count: int, last: bool) -> list[Row]:
        order = ", ".join(f"{quote(c)}{' DESC' if last else ''}" for c in table.key) or "1"
        return list(self._rows(table, f"1 ORDER BY {order} LIMIT {int(count)}", ()))

    @staticmethod
    def _all_of(table: Table, columns: Sequence[str]) -> str:
        have = set(table.names)
        return f"SELECT {', '.join(quote(c) if c in have else 'NULL' for c in columns)} FROM {quote(table.name)}"

    def scan(self, table: Table, columns: Sequence[str]) -> Iterator[tuple[Value, ...]]:
        cursor = self._run(self._all_of(table, columns))
        while batch := cursor.fetchmany(500):
            yield from batch

    def scan_payloads(self, table: Table) -> Iterator[tuple[int, bytes]]:
        places = [table.stored.index(k) for k in table.key]
        for values in self.scan(table, table.stored):
            yield block_of(tuple([values[p] for p in places])), pack(values)

    def blocks(self, table: Table, columns: Sequence[str]) -> dict[int, Block]:
        return self._driver.blocks([self._query(table, columns)])[0]

    def blocks_of(self, wanted: Sequence[tuple[Table, Sequence[str]]]) -> list[dict[int, Block]]:
        return self._driver.blocks([self._query(table, columns) for table, columns in wanted])

    def _query(self, table: Table, columns: Sequence[str]) -> tuple[str, int]:
        return self._all_of(table, [*table.key, *columns]), len(table.key)

    def row_digests(self, table: Table, columns: Sequence[str],
                    numbers: Collection[int] | None = None) -> Iterator[tuple[Key, bytes]]:
        return self._driver.digests(*self._query(table, columns), numbers)

    def fetch_many(self, table: Table, keys: Sequence[Key]) -> Iterator[Row]:
        odd = [key for key in keys if any(v is None or _bound(v)[0] != "?" for v in key)]
        for key in odd:
            yield from self.find(table, dict(zip(table.key, key, strict=True)))
        plain = [key for key in keys if key not in odd] if odd else keys
        for at in range(0, len(plain), AT_ONCE):
            part = plain[at:at + AT_ONCE]
            marks = ", ".join(["?" if len(table.key) == 1 else f"({', '.join('?' * len(table.key))})"] * len(part))
            columns = ", ".join(map(quote, table.key))
            where = f"{columns} IN ({marks})" if len(table.key) == 1 else f"({columns}) IN (VALUES {marks})"
            yield from self._rows(table, where, [v for key in part for v in key])

    def rows_where_set(self, table: Table, columns: Sequence[Column]) -> Iterator[Row]:
        tests = " OR ".join(f"{quote(c.name)} IS NOT ({c.default or 'NULL'}) COLLATE BINARY" for c in columns)
        yield from self._rows(table, tests, ())

    def _rows(self, table: Table, where: str, values: Sequence[Value]) -> Iterator[Row]:
        names = table.stored
        wanted = ", ".join(quote(n) for n in names)
        cursor = self._run(f"SELECT {wanted} FROM {quote(table.name)} WHERE {where}", values)
        while batch := cursor.fetchmany(500):
            for row in batch:
                yield dict(zip(names, row, strict=True))

    def _matching(self, values: Mapping[str, Value]) -> tuple[str, list[Value]]:
        tests, bound = [], []
        for name, value in values.items():
            mark, plain = _bound(value)
            tests.append(f"{quote(name)} IS {mark}")
            bound.append(plain)
        return " AND ".join(tests) or "1", bound

    def fetch(self, table: Table, key: Key) -> Row | None:
        return next(iter(self.find(table, dict(zip(table.key, key, strict=True)))), None)

    def find(self, table: Table, values: Mapping[str, Value]) -> list[Row]:
        where, bound = self._matching(values)
        return list(self._rows(table, where, bound))

    @staticmethod
    def _texts(table: Table, where: Mapping[str, str]) -> tuple[str, list[Value]]:
        names = [c for c in where if table.column(c) is not None]
        return "".join(f"CAST({quote(c)} AS TEXT) = ? AND " for c in names), [where[c] for c in names]

    def find_any(self, table: Table, column: str, values: Sequence[Value], where: Mapping[str, str]) -> Iterator[Row]:
        more, texts = self._texts(table, where)
        for at in range(0, len(values), AT_ONCE):
            part = values[at:at + AT_ONCE]
            yield from self._rows(table, f"{more}{quote(column)} IN ({', '.join('?' * len(part))})", [*texts, *part])

    def beginning(self, table: Table, column: str, text: str) -> Iterator[Row]:
        # A range, which an index leads to; what follows the last of the characters is in no text.
        for row in self._rows(table, f"{quote(column)} >= ? AND {quote(column)} < ?", [text, text + "\U0010ffff"]):
            if str(row[column]).startswith(text):
                yield row

    def mentioning(self, table: Table, column: str, numbers: Collection[int], where: Mapping[str, str],
                   words: Collection[str] = ()) -> Iterator[Row]:
        more, texts = self._texts(table, where)
        if words:
            more += f"({' OR '.join([f'instr({quote(column)}, ?)'] * len(words))}) AND "
            texts += sorted(words)
        self._driver.mentions({str(n) for n in numbers})
        mentions = f"nostos_mentions(CAST({quote(column)} AS BLOB))" if numbers else "1"
        yield from self._rows(table, f"{more}{mentions}", texts)

    def top(self, table: Table) -> int | None:
        row = self._run(f"SELECT MAX({quote(table.key[0])}) FROM {quote(table.name)}").fetchone()[0]
        return row if isinstance(row, int) else None

    def counter(self, table: Table) -> int | None:
        if not self._run("SELECT 1 FROM sqlite_master WHERE name='sqlite_sequence'").fetchone():
            return None
        row = self._run("SELECT seq FROM sqlite_sequence WHERE name = ?", (table.name,)).fetchone()
        return int(row[0]) if row else None

    def above(self, table: Table, key: int) -> Iterator[Row]:
        yield from self._rows(table, f"{quote(table.key[0])} > ?", [key])

    def _triggers(self) -> list[Trigger]:
        rows = self._run("SELECT tbl_name, sql FROM sqlite_master WHERE type='trigger' AND sql IS NOT NULL").fetchall()
        triggers = []
        for of, sql in rows:
            event = re.search(r"\b(INSERT|UPDATE|DELETE)\b", sql, re.IGNORECASE)
            triggers.append(Trigger("", of, "", event.group(1).upper() if event else "", sql))
        return triggers

    def programs(self) -> set[tuple[str, str]]:
        return {(str(what), str(name)) for what, name in self._run(
            "SELECT type, name FROM sqlite_master WHERE type IN ('view', 'trigger')")}

    def running_code(self, called: Collection[str]) -> frozenset[str]:
        return frozenset(called) & _DOES_MORE

    def triggered(self, written: Mapping[str, Collection[str]]) -> set[str]:
        return {t.table for t in self._triggers() if t.table in written and (
            not t.event or t.event in written[t.table])}

    def side_effects(self, written: Mapping[str, Collection[str]]) -> set[str]:
        triggers = self._triggers()
        if not triggers:
            return set()
        names = [n for (n,) in self._run("SELECT name FROM sqlite_master WHERE type='table'")]
        return reached(triggers, written, {n: n for n in names})

    def broken_references(self, table: Table) -> Iterator[tuple[Key, ForeignColumn]]:
        by_id = {r[0]: r for r in self._run(f"PRAGMA foreign_key_list({quote(table.name)})").fetchall()}
        for _, rowid, parent, fk_id in self._run(f"PRAGMA foreign_key_check({quote(table.name)})").fetchall():
            column = by_id[fk_id][3] if fk_id in by_id else "?"
            yield (rowid,), ForeignColumn(table.name, column, parent)

    def has_null(self, table: Table, column: str) -> bool:
        rows = self._run(f"SELECT 1 FROM {quote(table.name)} WHERE {quote(column)} IS NULL LIMIT 1").fetchone()
        return rows is not None

    def has_duplicates(self, table: Table, columns: Sequence[str]) -> bool:
        names = ", ".join(quote(c) for c in columns)
        full = " AND ".join(f"{quote(c)} IS NOT NULL" for c in columns)
        return self._run(f"SELECT 1 FROM {quote(table.name)} WHERE {full} GROUP BY {names} HAVING count(*) > 1 LIMIT 1"
                         ).fetchone() is not None

    def cannot_change(self, table: Table) -> str | None:
        mine = self.tables().get(table.name)
        if mine is None or mine.names != table.names:
            return (f"SQLite cannot define a column of {table.name} anew where its columns are others than in staging, "
                    "or stand in another order")
        return None

    def raw_rows(self, name: str) -> Iterator[tuple[Value, ...]]:
        cursor = self._run(f"SELECT * FROM {quote(name)}")
        while batch := cursor.fetchmany(500):
            yield from batch
