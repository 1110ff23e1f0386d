"""Reading the rows of a server's tables: digests by the server, rows through the driver's own cursor."""

from __future__ import annotations

import re
import secrets
from collections.abc import Collection, Generator, Iterator, Mapping, Sequence

from nostos.core.database.outline import Trigger, reached
from nostos.core.database.protocol import AT_ONCE, Block
from nostos.core.database.rows.digests import ROWS_PER_BLOCK, block_of
from nostos.core.database.rows.row_bytes import row_form
from nostos.core.database.schema import Column, Key, Row, Table, Value
from nostos.core.engines.mysql.reflection import NEXT, implied, quote
from nostos.core.engines.mysql.row_sql import READERS, RowSql
from nostos.core.engines.mysql.session import PROGRAMS, MysqlSession
from nostos.core.engines.server_session import PATTERNS
from nostos.core.expressions import expression

_FEW, _SPARSE = 2000, 16  # rows of a small table; keys to a row of a sparse one
_WIDE = 512  # bytes of a row that costs no more when it is read by itself
_TOGETHER = 8192  # keys whose rows are read as one value
_LITERAL = expression(r"'(?:[^'\\]|''|\\.)*'")
_WORKED_OUT = expression(r"\(|(?i:\bnext\s+value\b)")
_DIGITS = 20  # of a key
# Functions of the server's that write, wait, hold, or read what is not in the row.
_DOES_MORE = frozenset((
    "setval", "sleep", "benchmark", "get_lock", "release_lock", "release_all_locks", "is_free_lock", "is_used_lock",
    "load_file", "master_pos_wait", "master_gtid_wait", "source_pos_wait", "wait_for_executed_gtid_set", "sys_exec",
    "sys_eval"))
_CHECKSUMS = (10, 8)  # the version of MariaDB from which on there are two that begin with a number


class MysqlReading(MysqlSession):
    """What is read of a database."""

    def end(self, table: Table, count: int, last: bool) -> list[Row]:
        order = ", ".join(f"{quote(c)}{' DESC' if last else ''}" for c in table.key) or "1"
        return list(self._rows(table, f"1 ORDER BY {order} LIMIT {int(count)}", ()))

    def counter(self, table: Table) -> int | None:
        if re.match(r"5\.[0-7]\.\d+(?!.*MariaDB)", str(self._connection.get_server_info())):
            return None  # that forgets, when it is started anew
        match = NEXT.search(self.definition(table.name))
        return int(match.group(1)) - 1 if match else None

    def scan(self, table: Table, columns: Sequence[str]) -> Iterator[tuple[Value, ...]]:
        wanted, kinds = self._of(table).select(columns)
        yield from self._stream(f"SELECT {wanted} FROM {self.real(table.name)}", (), kinds)

    def scan_payloads(self, table: Table) -> Iterator[tuple[int, bytes]]:
        sql = self._of(table)
        done: int | None = None
        if sql.ranged:
            done = yield from self._together(table, sql)
        rest = "" if done is None else f" WHERE {quote(table.key[0])} > {done}"
        long = 0
        for batch in self._batches(f"SELECT {sql.block}, {sql.payload(table.stored)} FROM {sql.real}{rest}", ()):
            for number, payload in batch:
                if payload is None:
                    long += 1
                else:
                    yield int(number), payload
        if long:
            form = row_form(table, table.stored)
            for row in self._rows(table, f"{sql.payload(table.stored)} IS NULL", ()):
                yield block_of(table.key_of(row)), form.write(list(row.values()))

    def _together(self, table: Table, sql: RowSql) -> Generator[tuple[int, bytes], None, int | None]:
        """Rows of many keys as one value, which a driver reads in a fraction of the time of as many rows. Returns the
        key up to which that was done, for where it cannot be; None: not at all."""
        key = quote(table.key[0])
        count, low, high, most = (int(v or 0) for v in self.run(
            f"SELECT COUNT(*), MIN({key}), MAX({key}), @@max_allowed_packet FROM {sql.real}")[0])
        size = self.sizes().get(table.name, (0, 0))[1] // max(count, 1) + 64
        if count < _FEW or size > _WIDE or low < 0 or (high - low) // count > _SPARSE:
            return None
        step = min(_TOGETHER, most // 4 // size) // ROWS_PER_BLOCK * ROWS_PER_BLOCK
        between = secrets.token_hex(12)
        self.run(f"SET SESSION group_concat_max_len = {most}")
        at = low - low % ROWS_PER_BLOCK
        while at <= high and step:
            cursor = self._cursor(
                f"SELECT COUNT(*), GROUP_CONCAT(LPAD({key}, {_DIGITS}, '0'), {sql.payload(table.stored)} SEPARATOR "
                f"'{between}') FROM {sql.real} WHERE {key} BETWEEN {at} AND {at + step - 1}")
            result, value = cursor.fetchone()
            cursor.close()
            parts = value.split(between.encode()) if value is not None else []
            if len(parts) != int(result):
                return at - 1  # they are too long to be told at once
            for part in parts:
                yield int(part[:_DIGITS]) // ROWS_PER_BLOCK, part[_DIGITS:]
            at += step
        return high if step else None

    def adds_up(self, table: Table) -> bool:
        return True

    def blocks(self, table: Table, columns: Sequence[str]) -> dict[int, Block]:
        return self.blocks_of([(table, columns)])[0]

    def blocks_of(self, wanted: Sequence[tuple[Table, Sequence[str]]]) -> list[dict[int, Block]]:
        results = self.run_all([(self._of(table).blocks(columns), ()) for table, columns in wanted])
        return [{int(b): Block(int(n), int(total)) for b, n, total in rows} for rows in results]

    def has_fingerprints(self, table: Table) -> bool:
        version = re.search(r"(\d+)\.(\d+)\.\d+-MariaDB", str(self._connection.get_server_info()))
        return version is not None and (int(version[1]), int(version[2])) >= _CHECKSUMS

    def fingerprints_of(self, wanted: Sequence[tuple[Table, Sequence[str]]], seed: int) -> list[dict[int, Block]]:
        results = self.run_all([(self._of(table).fingerprints(columns, seed), ()) for table, columns in wanted])
        return [{int(b): Block(int(n), int(sums)) for b, n, sums in rows} for rows in results]

    def row_digests(self, table: Table, columns: Sequence[str],
                    numbers: Collection[int] | None = None) -> Iterator[tuple[Key, bytes]]:
        sql = self._of(table)
        wanted, kinds = sql.select(table.key)
        long: list[Key] = []
        for where in sql.wheres(numbers):
            for row in self._stream(f"SELECT {wanted}, {sql.digest(columns)} FROM {sql.real}{where}", (),
                                    [*kinds, "text"]):
                if row[-1] is None:  # a row that is longer than the server puts together: as its values
                    long.append(row[:-1])
                else:
                    yield row[:-1], bytes.fromhex(str(row[-1]))
        form = row_form(table, columns)
        for key in long:
            fetched = self.fetch(table, key)
            if fetched is not None:
                yield key, form.digest(form.write([fetched.get(c) for c in columns]))

    def rows_where_set(self, table: Table, columns: Sequence[Column]) -> Iterator[Row]:
        # A column that may not be empty and has no default is told none.
        bare = {c.name: implied(c) for c in columns if not c.nullable and c.default is None}
        if any(_WORKED_OUT.search(_LITERAL.sub("", c.default or "")) for c in columns):
            # What is worked out for each row is never asked for: that may write, or run what the site has defined.
            yield from self._rows(table, "1", ())
            return
        tests = " OR ".join(f"NOT ({self._exactly(quote(c.name), c)} <=> " + self._exactly(
            "%s" if c.name in bare else f"DEFAULT({quote(c.name)})", c) + ")" for c in columns)
        yield from self._rows(table, tests, [bare[c.name] for c in columns if c.name in bare])

    @staticmethod
    def _exactly(sql: str, column: Column) -> str:
        """A value of a column's as it is compared: text by its bytes, whatever the column's collation takes for one."""
        return f"BINARY CONVERT({sql} USING utf8mb4)" if column.kind == "text" and column.charset else sql

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

    def locked(self, table: Table, keys: Sequence[Key]) -> Iterator[Row]:
        # A plain read would see the transaction's snapshot; one that locks sees what is there now. It does not wait
        # for others while it holds rows itself; and it is read whole, for a deadlock may be told in the middle of it.
        wanted, kinds = self._of(table).select(table.stored)
        for where, values in self._keyed(table, sorted(keys, key=repr)):
            sql = f"SELECT {wanted} FROM {self.real(table.name)} WHERE {where} FOR UPDATE"
            cursor = self._cursor(f"{sql} NOWAIT" if self._may_refuse_to_wait() else sql, values)
            try:
                rows = cursor.fetchall()
            finally:
                cursor.close()
            columns = [READERS[k](column) for k, column in zip(kinds, zip(*rows, strict=True), strict=True)
                       ] if rows else []
            for row in zip(*columns, strict=True):
                yield dict(zip(table.stored, row, strict=True))

    def _may_refuse_to_wait(self) -> bool:
        """Whether the server knows NOWAIT: MariaDB from 10.3, MySQL from 8.0 on."""
        if self._nowait is None:
            numbers = re.findall(r"\d+", str(self.run("SELECT VERSION()")[0][0]))
            self._nowait = (int(numbers[0]), int(numbers[1])) >= ((10, 3) if "MariaDB" in self.version() else (8, 0))
        return self._nowait

    def find(self, table: Table, values: Mapping[str, Value]) -> list[Row]:
        where, bound = self._matching(table, values)
        # Only where an index leads to the rows: else the lock would hold the whole table.
        lock = " LOCK IN SHARE MODE" if self._locking and table.indexed(next(iter(values), "")) else ""
        return list(self._rows(table, where + lock, bound))

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

    def beginning(self, table: Table, column: str, text: str) -> Iterator[Row]:
        lock = " LOCK IN SHARE MODE" if self._locking and table.indexed(column) else ""
        pattern = re.sub(r"([\\%_])", r"\\\1", text) + "%"
        for row in list(self._rows(table, f"{quote(column)} LIKE %s{lock}", [pattern])):
            if str(row[column]).startswith(text):  # a collation may take more for alike
                yield row

    def mentioning(self, table: Table, column: str, numbers: Collection[int], where: Mapping[str, str],
                   words: Collection[str] = ()) -> Iterator[Row]:
        more, texts = self._texts(table, where)
        first, first_text = "", sorted(words)
        if words:  # looked at first, for it costs the least
            first = f"({' OR '.join([f'INSTR(CAST({quote(column)} AS BINARY), %s)'] * len(words))}) AND "
        select, kinds = self._of(table).select(table.key)
        if not numbers:
            rows = list(self._stream(f"SELECT {select} FROM {self.real(table.name)} WHERE {first}1{more}",
                                     [*first_text, *texts], kinds))
        elif len(numbers) <= PATTERNS:
            any_of = "|".join(str(n) for n in sorted(numbers))
            rows = list(self._stream(
                f"SELECT {select} FROM {self.real(table.name)} WHERE {first}{quote(column)} REGEXP %s{more}",
                [*first_text, f"(^|[^0-9])({any_of})([^0-9]|$)", *texts], kinds))
        else:
            wanted = {str(n) for n in numbers}
            rows = [row[:-1] for row in self._stream(
                f"SELECT {select}, {quote(column)} FROM {self.real(table.name)} "
                f"WHERE {first}{quote(column)} IS NOT NULL"
                f"{more}",
                [*first_text, *texts], [*kinds, "text"]) if not wanted.isdisjoint(re.findall(r"\d+", str(row[-1])))]
        for at in range(0, len(rows), AT_ONCE):  # not while the answer is read: more is asked about each row
            yield from list(self.fetch_many(table, rows[at:at + AT_ONCE]))

    def _triggers(self) -> list[Trigger]:
        return [Trigger("", of[len(self.prefix):], "", event, body) for of, event, body in self.run(
            "SELECT event_object_table, event_manipulation, action_statement FROM information_schema.triggers "
            "WHERE trigger_schema = %s", (self.name,)) if self.holds(of)]

    def programs(self) -> set[tuple[str, str]]:
        # Routines are a database's, not a prefix's: of a copy beside live's tables they are live's own.
        programs = self._programs if self._programs is not None else self.run(PROGRAMS, (self.name,) * 3)
        return {(str(what), str(name).removeprefix(self.prefix)) for what, name, of in programs
                if what == "routine" or self.holds(str(of))}

    def running_code(self, called: Collection[str]) -> frozenset[str]:
        # Functions of the site's own, and loaded ones, are refused in definitions by the server, as most of these are.
        return frozenset(called) & _DOES_MORE

    def without_transactions(self) -> set[str]:
        return {str(name)[len(self.prefix):] for (name,) in self.run(
            "SELECT t.table_name FROM information_schema.tables t JOIN information_schema.engines e "
            "ON e.engine = t.engine WHERE t.table_schema = %s AND t.table_type = 'BASE TABLE' "
            "AND e.transactions <> 'YES'", (self.name,)) if self.holds(str(name))}

    def triggered(self, written: Mapping[str, Collection[str]]) -> set[str]:
        stamped = {str(of)[len(self.prefix):] for (of,) in self.run(
            "SELECT DISTINCT table_name FROM information_schema.columns WHERE table_schema = %s "
            "AND extra LIKE '%%on update%%'", (self.name,)) if self.holds(of)}
        return {t for t, events in written.items() if "UPDATE" in events and t in stamped} | {
            t.table for t in self._triggers() if t.event in written.get(t.table, ())}

    def side_effects(self, written: Mapping[str, Collection[str]]) -> set[str]:
        triggers = self._triggers()
        if not triggers:
            return set()
        routines = {str(name): None if body is None else str(body) for name, body in self.run(
            "SELECT routine_name, routine_definition FROM information_schema.routines WHERE routine_schema = %s",
            (self.name,))}
        return reached(triggers, written, {n[len(self.prefix):]: n for n in self._names()}, routines)

    def existing(self, table: Table, keys: Sequence[Key]) -> Iterator[Key]:
        wanted, kinds = self._of(table).select(table.key)
        for where, values in self._keyed(table, sorted(keys, key=repr)):
            for row in self.run(f"SELECT {wanted} FROM {self.real(table.name)} WHERE {where} LOCK IN SHARE MODE",
                                values):
                yield tuple(READERS[k]([v])[0] for k, v in zip(kinds, row, strict=True))

    def views(self) -> list[str]:
        return [n[len(self.prefix):] for (n,) in self.run(
            "SELECT table_name FROM information_schema.tables WHERE table_schema = %s "
            "AND table_type IN ('VIEW', 'SEQUENCE')", (self.name,))
            if self.holds(n)]

    def sizes(self) -> dict[str, tuple[int, int]]:
        return {name[len(self.prefix):]: (int(rows or 0), int(size or 0)) for name, rows, size in self.run(
            "SELECT table_name, table_rows, data_length + index_length FROM information_schema.tables "
            "WHERE table_schema = %s AND table_type IN ('BASE TABLE', 'SYSTEM VERSIONED')", (self.name,))
            if self.holds(name)}
