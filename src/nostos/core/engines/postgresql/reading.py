"""Reading the rows of a server's tables: digests by the server, rows as its text."""

from __future__ import annotations

import re
import struct
from collections.abc import Collection, Iterator, Mapping, Sequence

from nostos.core.database.outline import Trigger, reached
from nostos.core.database.protocol import AT_ONCE, Block
from nostos.core.database.rows.block_sums import Sums
from nostos.core.database.rows.digests import block_of
from nostos.core.database.schema import Column, Key, Row, Table, Value
from nostos.core.engines.postgresql.copy_out import copied, fields
from nostos.core.engines.postgresql.reflection import HERE, INCOMPARABLE, quote
from nostos.core.engines.postgresql.session import PostgresSession
from nostos.core.engines.server_session import PATTERNS
from nostos.core.errors import Disturbed
from nostos.core.expressions import expression

_BIT_XOR = 140000  # the version from which on the server adds digests up by itself, and hashes rows
_WHOLE = 1 << 64
_RANGED = struct.Struct("!hiqi")  # a row of two fields, a block's number and bytes, up to the bytes
_RANGED_SIZE = _RANGED.size

_CONSTANT = expression(r"(?i)(?:'(?:[^']|'')*'|-?[\d.]+|\(-[\d.]+\)|null|true|false)(?:::[\w \[\]\".(),]+)*")
# Volatile, for they give another value each time, and do no more.
_GIVES_VALUES = frozenset((
    "random", "nextval", "gen_random_uuid", "gen_random_bytes", "uuidv4", "uuidv7", "uuid_generate_v1",
    "uuid_generate_v1mc", "uuid_generate_v4", "clock_timestamp", "timeofday"))
_FIRST_XID = 3  # what is below is no transaction: rows that were there from the start, or are frozen


class PostgresReading(PostgresSession):
    """What is read of a database."""

    def end(self, table: Table, count: int, last: bool) -> list[Row]:
        order = ", ".join(f"{quote(c)}{' DESC' if last else ''}" for c in table.key)
        return list(self._rows(table, f"true{f' ORDER BY {order}' if order else ''} LIMIT {int(count)}", ()))

    def scan(self, table: Table, columns: Sequence[str]) -> Iterator[tuple[Value, ...]]:
        yield from self.stream(f"SELECT {self._of(table).select(columns)} FROM {self.held(table.name)}")

    def scan_payloads(self, table: Table) -> Iterator[tuple[int, bytes]]:
        sql = self._of(table)
        payload = sql.payload(table.stored)
        if sql.ranged:
            query = f"SELECT ({sql.block})::bigint, {payload} FROM {sql.real}"
            for row in copied(self._connection, query, binary=True):
                yield _RANGED.unpack_from(row)[2], row[_RANGED_SIZE:]
            return
        binary = [sql.kinds[k] == "binary" for k in table.key]
        keys = ", ".join(quote(k) if b else f"{quote(k)}::text" for k, b in zip(table.key, binary, strict=True))
        for row in copied(self._connection, f"SELECT {keys}, {payload} FROM {sql.real}", binary=True):
            *key, last = (f or b"" for f in fields(row))
            yield block_of(key), last

    def _adds_up(self, table: Table) -> bool:
        return self.number >= _BIT_XOR and self._of(table).ranged

    def blocks(self, table: Table, columns: Sequence[str]) -> dict[int, Block]:
        return self.blocks_of([(table, columns)])[0]

    def blocks_of(self, wanted: Sequence[tuple[Table, Sequence[str]]]) -> list[dict[int, Block]]:
        adds = [self._adds_up(table) for table, _ in wanted]
        results = iter(self.run_all([(self._of(table).blocks(columns), ())
                                  for (table, columns), by_itself in zip(wanted, adds, strict=True) if by_itself]))
        return [{int(b): Block(int(n), int(total) % _WHOLE) for b, n, total in next(results)} if by_itself else
                Sums().add_by_keys(self.row_digests(table, columns)).blocks()
                for (table, columns), by_itself in zip(wanted, adds, strict=True)]

    def has_fingerprints(self, table: Table) -> bool:
        return self._adds_up(table)

    def fingerprints_of(self, wanted: Sequence[tuple[Table, Sequence[str]]], seed: int) -> list[dict[int, Block]]:
        return [{int(b): Block(int(n), int(sums) % _WHOLE) for b, n, sums in results} for results in self.run_all(
            [(self._of(table).fingerprints(columns, seed), ()) for table, columns in wanted])]

    def row_digests(self, table: Table, columns: Sequence[str],
                    numbers: Collection[int] | None = None) -> Iterator[tuple[Key, bytes]]:
        sql = self._of(table)
        wanted = None if numbers is None or sql.ranged else set(numbers)
        for where in sql.wheres(numbers):
            for row in self.stream(f"SELECT {sql.select(table.key)}, {sql.digest(columns)} FROM {sql.real}{where}"):
                if wanted is None or block_of(row[:-1]) in wanted:
                    yield row[:-1], row[-1]

    def rows_where_set(self, table: Table, columns: Sequence[Column]) -> Iterator[Row]:
        tests = " OR ".join(map(self._is_set, columns))
        yield from self._rows(table, tests, ())

    @staticmethod
    def _is_set(column: Column) -> str:
        """A condition that a column is not its default, text by its bytes. A default that is worked out for each row is
        never asked for: that may write, or run what the site has defined."""
        if column.default is not None and not _CONSTANT.fullmatch(column.default):
            return "true"
        name, default = quote(column.name), f"({column.default or 'NULL'})"
        if column.kind == "text":
            return f'{name}::text COLLATE "C" IS DISTINCT FROM {default}::text COLLATE "C"'
        as_text = "::text" if column.charset in INCOMPARABLE else ""
        return f"{name}{as_text} IS DISTINCT FROM {default}{as_text}"

    def _rows(self, table: Table, where: str, values: Sequence[Value]) -> Iterator[Row]:
        sql = f"SELECT {self._of(table).select(table.stored)} FROM {self.held(table.name)} WHERE {where}"
        for row in self.stream(sql, values):
            yield dict(zip(table.stored, row, strict=True))

    def _comparable(self, table: Table, column: str) -> str:
        """A column as it can be compared: some types have no equality but that of their text."""
        info = table.column(column)
        return f"{quote(column)}::text" if info is not None and info.charset in INCOMPARABLE else quote(column)

    @staticmethod
    def _own(table: Table, column: str, value: Value) -> Value:
        """A value as a column's type takes it in a comparison."""
        info = table.column(column)
        if value is None or info is None or isinstance(value, bytes):
            return value
        if info.kind == "int":
            return int(value) if re.fullmatch(r"-?\d{1,18}", str(value)) else value
        return str(value)

    def _matching(self, table: Table, values: Mapping[str, Value]) -> tuple[str, list[Value]]:
        """Columns that equal these values exactly: text by its bytes, not by its collation."""
        tests, bound = [], []
        for c, value in values.items():
            column = table.column(c)
            if value is None:
                tests.append(f"{quote(c)} IS NULL")
                continue
            tests.append(f"{self._comparable(table, c)} = %s")
            bound.append(self._own(table, c, value))
            if column is not None and column.charset in ("citext", "bpchar"):
                tests.append(f"{quote(c)}::text = %s")
                bound.append(str(value))
        return " AND ".join(tests) or "true", bound

    def locked(self, table: Table, keys: Sequence[Key]) -> Iterator[Row]:
        # What has changed since the transaction's snapshot breaks it off, and it is tried again.
        wanted = self._of(table).select(table.stored)
        for where, values in self._keyed(table, sorted(keys, key=repr)):
            for row in self.run(f"SELECT {wanted} FROM {self.held(table.name)} WHERE {where} FOR UPDATE NOWAIT",
                                values):
                yield dict(zip(table.stored, row, strict=True))

    def find(self, table: Table, values: Mapping[str, Value]) -> list[Row]:
        where, bound = self._matching(table, values)
        if self._locking:
            self._hold(table, where, bound)
        return list(self._rows(table, where, bound))

    def _hold(self, table: Table, where: str, bound: Sequence[Value]) -> None:
        """Keep others from adding to a table, and see that nobody has added what this transaction's snapshot does not
        show. Raises Disturbed."""
        self.run(f"LOCK TABLE {self.held(table.name)} IN SHARE ROW EXCLUSIVE MODE")
        if not table.key:
            return
        keys = self._of(table).select(table.key)
        sql = f"SELECT {keys} FROM {self.held(table.name)} WHERE {where}"
        mine = set(self.run(sql, bound))
        made_by = {int(by) for *key, by in self._beside().run(
            f"SELECT {keys}, xmin::text FROM {self.held(table.name)} WHERE {where}", bound) if tuple(key) not in mine}
        if not all(map(self._was_seen, made_by)):  # what this transaction removed or changed is not new
            raise Disturbed(f"Rows were added to {table.name} meanwhile.", left="Nothing was changed.",
                            next_step="Try again.")

    def _was_seen(self, transaction: int) -> bool:
        """Whether what a transaction has made is in this one's snapshot. transaction: as rows name it, in 32 bits; the
        server tells by 64 (https://www.postgresql.org/docs/current/functions-info.html, xid8)."""
        snapshot = int(self.run("SELECT pg_snapshot_xmax(pg_current_snapshot())::text")[0][0])
        apart = (transaction - snapshot) % (1 << 32)
        whole = snapshot + apart - (1 << 32 if apart >= 1 << 31 else 0)
        return transaction < _FIRST_XID or whole < _FIRST_XID or bool(self.run(
            "SELECT pg_visible_in_snapshot(%s::text::xid8, pg_current_snapshot())", [str(whole)])[0][0])

    def _beside(self) -> PostgresReading:
        """Another connection, which sees what is committed at this moment."""
        if self._second is None or self._second._connection.closed:
            self._second = type(self)(self.location, readonly=True)
        return self._second

    _second: PostgresReading | None = None

    def close(self) -> None:
        if self._second is not None:
            self._second.close()
        super().close()

    def _texts(self, table: Table, where: Mapping[str, str]) -> tuple[str, list[Value]]:
        names = [c for c in where if table.column(c) is not None]
        return "".join(f" AND {quote(c)}::text = %s" for c in names), [where[c] for c in names]

    def find_any(self, table: Table, column: str, values: Sequence[Value], where: Mapping[str, str]) -> Iterator[Row]:
        more, texts = self._texts(table, where)
        info = table.column(column)
        some = {self._own(table, column, v) for v in values if v is not None}
        if info is not None and info.kind == "int":
            some = {v for v in some if isinstance(v, int)}
        every = sorted(some, key=repr)
        place = f"{quote(column)}::text" if info is not None and info.kind == "text" and info.charset not in (
            "text", "varchar") else quote(column)
        for at in range(0, len(every), 1000):
            part = every[at:at + 1000]
            yield from list(self._rows(table, f"{place} IN ({self._marks(len(part))}){more}", [*part, *texts]))

    def beginning(self, table: Table, column: str, text: str) -> Iterator[Row]:
        yield from list(self._rows(table, f"starts_with({quote(column)}::text, %s)", [text]))

    def mentioning(self, table: Table, column: str, numbers: Collection[int], where: Mapping[str, str],
                   words: Collection[str] = ()) -> Iterator[Row]:
        more, texts = self._texts(table, where)
        in_bytes = (declared := table.column(column)) is not None and declared.kind == "binary"
        value = f"encode({quote(column)}, 'escape')" if in_bytes else f"{quote(column)}::text"
        first_text = sorted(words)
        if words:
            more += f" AND ({' OR '.join([f'position(%s in {value}) > 0'] * len(words))})"
        select = self._of(table).select(table.key)
        if not numbers:
            rows = list(self.stream(f"SELECT {select} FROM {self.held(table.name)} WHERE {quote(column)} IS NOT NULL"
                                    f"{more}", [*texts, *first_text]))
        elif len(numbers) <= PATTERNS:
            any_of = "|".join(str(n) for n in sorted(numbers))
            rows = list(self.stream(f"SELECT {select} FROM {self.held(table.name)} WHERE {value} ~ %s{more}",
                                     [f"(^|[^0-9])({any_of})([^0-9]|$)", *texts, *first_text]))
        else:
            wanted = {str(n) for n in numbers}
            rows = [row[:-1] for row in self.stream(
                f"SELECT {select}, {value} FROM {self.held(table.name)} WHERE {quote(column)} IS NOT NULL{more}",
                [*texts, *first_text]) if not wanted.isdisjoint(re.findall(r"\d+", str(row[-1])))]
        for at in range(0, len(rows), AT_ONCE):
            yield from list(self.fetch_many(table, rows[at:at + AT_ONCE]))

    def _triggers(self) -> list[Trigger]:
        return [Trigger("", of[len(self.prefix):], "", event, body) for of, event, body in self.run(
            "SELECT c.relname, concat_ws(' ', CASE WHEN t.tgtype & 4 > 0 THEN 'INSERT' END, "
            "CASE WHEN t.tgtype & 8 > 0 THEN 'DELETE' END, CASE WHEN t.tgtype & 16 > 0 THEN 'UPDATE' END), p.prosrc "
            "FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_proc p ON p.oid = t.tgfoid "
            f"WHERE NOT t.tgisinternal AND c.relnamespace = {HERE}")
            if of.startswith(self.prefix)]

    def programs(self) -> set[tuple[str, str]]:
        programs = self.run(
            "SELECT 'view', relname, relname FROM pg_class WHERE relkind IN ('v', 'm') "
            f"AND relnamespace = {HERE} UNION ALL "
            "SELECT 'trigger', t.tgname, c.relname FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid "
            f"WHERE NOT t.tgisinternal AND c.relnamespace = {HERE} UNION ALL "
            "SELECT 'routine', p.proname, '' FROM pg_proc p "
            f"WHERE p.pronamespace = {HERE} "
            "AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.objid = p.oid AND d.deptype = 'e')")
        return {(str(what), str(name).removeprefix(self.prefix)) for what, name, of in programs
                if what == "routine" or str(of).startswith(self.prefix)}

    def running_code(self, called: Collection[str]) -> frozenset[str]:
        # What is not volatile can change nothing: the server sees to it.
        return frozenset(str(name) for (name,) in self.run(
            "SELECT DISTINCT proname FROM pg_proc WHERE provolatile = 'v' AND proname IN "
            f"({self._marks(len(called))})", sorted(called))) - _GIVES_VALUES

    def triggered(self, written: Mapping[str, Collection[str]]) -> set[str]:
        return {t.table for t in self._triggers() if set(t.event.split()) & set(written.get(t.table, ()))}

    def side_effects(self, written: Mapping[str, Collection[str]]) -> set[str]:
        triggers = self._triggers()
        if not triggers:
            return set()
        routines = {str(name): str(body) for name, body in self.run(
            "SELECT p.proname, string_agg(pg_get_functiondef(p.oid), E'\\n') FROM pg_proc p "
            "JOIN pg_language l ON l.oid = p.prolang JOIN pg_namespace n ON n.oid = p.pronamespace "
            "WHERE p.prokind IN ('f', 'p') AND l.lanname NOT IN ('c', 'internal') "
            "AND n.nspname NOT IN ('pg_catalog', 'information_schema') GROUP BY p.proname")}
        return reached(triggers, written, {n[len(self.prefix):]: n for n in self.all_names()
                                           if n.startswith(self.prefix)}, routines)

    def existing(self, table: Table, keys: Sequence[Key]) -> Iterator[Key]:
        wanted = self._of(table).select(table.key)
        for where, values in self._keyed(table, sorted(keys, key=repr)):
            for row in self.run(f"SELECT {wanted} FROM {self.held(table.name)} WHERE {where} FOR KEY SHARE", values):
                yield tuple(row)

    def views(self) -> list[str]:
        return [n[len(self.prefix):] for (n,) in self.run(
            f"SELECT relname FROM pg_class WHERE relnamespace = {HERE} "
            "AND relkind IN ('v', 'm')") if n.startswith(self.prefix)]

    def sizes(self) -> dict[str, tuple[int, int]]:
        return {name[len(self.prefix):]: (max(int(rows), 0), int(size)) for name, rows, size in self.run(
            "SELECT relname, reltuples::bigint, pg_table_size(oid) FROM pg_class "
            f"WHERE relnamespace = {HERE} AND relkind IN ('r', 'p')")
            if name.startswith(self.prefix)}
