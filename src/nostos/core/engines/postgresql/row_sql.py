"""SQL by which a PostgreSQL server writes a table's rows, digests and blocks."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from functools import cached_property

from nostos.core.database.rows.digests import ROWS_PER_BLOCK
from nostos.core.database.schema import Table
from nostos.core.engines.postgresql.reflection import quote

_BLOCKS_AT_ONCE = 100
_PLAIN = ("text", "varchar")  # what is text already
_EXACT = ("bool", "date", "timestamp", "timestamptz", "uuid")  # two values of these are equal only if they are the same


class RowSql:
    """The expressions for one table. real: its full name, quoted."""

    def __init__(self, table: Table, real: str) -> None:
        self.table = table
        self.real = real
        self.kinds = {c.name: c.kind for c in table.columns}

    def value(self, column: str) -> str:
        """A column as it travels. One that is not there reads as NULL."""
        info = self.table.column(column)
        if info is None:
            return "NULL"
        plain = info.kind in ("int", "binary") or info.charset in _PLAIN
        return quote(column) if plain else f"{quote(column)}::text"

    def select(self, columns: Sequence[str]) -> str:
        return ", ".join(map(self.value, columns))

    def payload(self, columns: Sequence[str]) -> str:
        """A row's bytes over these columns, in the form `text-sha256` of row_bytes.py."""
        if not any(self.kinds.get(c) == "binary" for c in columns):
            return f"convert_to({self._text(columns)}, 'UTF8')"
        pieces = []
        for number, c in enumerate(columns):
            comma = "," if number else ""
            if self.kinds.get(c) == "binary":
                v = quote(c)
                pieces.append(f"convert_to('{comma}' || COALESCE(octet_length({v})::text, 'N') || ',', 'UTF8') || "
                              f"COALESCE({v}, 'N'::bytea)")
            else:
                pieces.append(f"convert_to('{comma}' || {self._text([c])}, 'UTF8')")
        return f"({' || '.join(pieces)})"

    def _text(self, columns: Sequence[str]) -> str:
        parts = []
        for c in columns:
            kind, v = self.kinds.get(c), self.value(c)
            if kind == "text":
                parts += [f"COALESCE(octet_length({v})::text, 'N')", f"COALESCE({v}, 'N')"]
            else:
                parts.append("'N'" if kind is None else f"COALESCE({v}::text, 'N')")
        return f"concat_ws(',', {', '.join(parts)})" if len(parts) < 90 else " || ',' || ".join(parts)

    def digest(self, columns: Sequence[str]) -> str:
        return f"substring(sha256({self.payload(columns)}) FROM 1 FOR 16)"

    def _hashed(self, column: str) -> str:
        """A column as its hash tells all values apart: some types, such as numbers with decimals, hold several that
        count as equal, and so does text under some collations."""
        info, name = self.table.column(column), quote(column)
        if info is None:
            return "NULL::text"
        if info.kind in ("int", "binary") or info.charset in _EXACT:
            return name
        return f"{name}{'' if info.charset in _PLAIN else '::text'} COLLATE \"C\""

    def fingerprints(self, columns: Sequence[str], seed: int) -> str:
        """A statement for number, count and fingerprint of every block of a ranged table."""
        row = ", ".join(map(self._hashed, columns))
        return (f"SELECT {self.block}, count(*), bit_xor(hash_record_extended(ROW({row}), {int(seed)})) "
                f"FROM {self.real} GROUP BY 1")

    @cached_property
    def ranged(self) -> bool:
        """Whether blocks are ranges of a numeric key, which its index serves."""
        return len(self.table.key) == 1 and self.kinds[self.table.key[0]] == "int"

    @property
    def block(self) -> str:
        """The number of a row's block, as `block_of` gives it for a number."""
        return f"{quote(self.table.key[0])} / {ROWS_PER_BLOCK}"

    def blocks(self, columns: Sequence[str]) -> str:
        """A statement for number, count and digest of every block of a ranged table."""
        return f"SELECT {self.block}, {self.sums(self.payload(columns))} FROM {self.real} GROUP BY 1"

    @staticmethod
    def sums(payload: str) -> str:
        """How many rows, and the sum of their digests. payload: what stands for a row's bytes."""
        first = f"encode(substring(sha256({payload}) FROM 1 FOR 8), 'hex')"
        return f"count(*), bit_xor(('x' || {first})::bit(64)::bigint)"

    def wheres(self, numbers: Collection[int] | None) -> Iterator[str]:
        """Conditions that select these blocks of a ranged table, some at once; None: everything."""
        if numbers is None or not self.ranged:
            yield ""
            return
        every, key = sorted(numbers), quote(self.table.key[0])
        for at in range(0, len(every), _BLOCKS_AT_ONCE):
            part = every[at:at + _BLOCKS_AT_ONCE]
            yield " WHERE " + " OR ".join(
                f"{key} BETWEEN {n * ROWS_PER_BLOCK} AND {n * ROWS_PER_BLOCK + ROWS_PER_BLOCK - 1}" if n > 0 else
                f"{key} / {ROWS_PER_BLOCK} = {n}" for n in part)
