"""SQL by which a MariaDB or MySQL server writes a table's rows, digests and blocks, and how what it sends is read."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from typing import Any

from nostos.core.database.rows.digests import BUCKETS, ROWS_PER_BLOCK
from nostos.core.database.schema import Column, Table, Value
from nostos.core.engines.mysql.reflection import quote

_UTF8 = (None, "utf8mb4", "utf8mb3", "utf8", "ascii", "binary")
_BLOCKS_AT_ONCE = 100


class RowSql:
    """The expressions for one table. real: its full name, quoted."""

    def __init__(self, table: Table, real: str) -> None:
        self.table = table
        self.real = real
        self.kinds = {c.name: c.kind for c in table.columns}

    def select(self, columns: Sequence[str]) -> tuple[str, list[str]]:
        """What to select for these columns' values, and how each travels. A column that is not there reads as NULL."""
        wanted = []
        for c in columns:
            # A float prints fewer digits than it holds; as a double it prints them all.
            kind = self.kinds.get(c)
            wanted.append("NULL" if kind is None else f"{quote(c)} + 0.0e0" if kind == "float" else quote(c))
        return ", ".join(wanted), [self.kinds.get(c, "text") for c in columns]

    def payload(self, columns: Sequence[str]) -> str:
        """A row's bytes over these columns, in the form `text` of rowforms.py."""
        parts = []
        for c in columns:
            column, kind = self.table.column(c), self.kinds.get(c)
            if column is None:
                parts.append("'N'")
                continue
            value = quote(c)
            if kind in ("text", "binary"):
                if column.charset not in _UTF8:
                    value = f"CONVERT({value} USING utf8mb4)"
                values = [f"LENGTH({value})", f"CAST({value} AS BINARY)"]
            else:
                values = [self._plain(column, value)]
            parts += [f"IFNULL({v}, 'N')" for v in values] if column.nullable else values
        # A part that is binary makes the whole binary, whatever the columns' collations are.
        return f"CAST(CONCAT_WS(',', {', '.join(parts)}) AS BINARY)"

    def digest(self, columns: Sequence[str]) -> str:
        """A row's digest over these columns, in hexadecimal."""
        return f"LEFT(SHA1({self.payload(columns)}), 32)"

    def sums(self, columns: Sequence[str]) -> str:
        """How many rows, and the sum of their digests over these columns."""
        return ("COUNT(*), "
                f"BIT_XOR(CAST(CONV(LEFT(SHA1({self.payload(columns)}), 16), 16, 10) AS UNSIGNED))")

    @property
    def ranged(self) -> bool:
        """Whether blocks are ranges of a numeric key, which its index serves."""
        return len(self.table.key) == 1 and self.kinds[self.table.key[0]] == "int"

    @property
    def block(self) -> str:
        """The number of a row's block, as `block_of` gives it."""
        key = self.table.key
        if self.ranged:
            return f"{quote(key[0])} DIV {ROWS_PER_BLOCK}"
        parts = ", ".join(quote(k) if self.kinds[k] in ("int", "binary") else f"CONVERT({quote(k)} USING utf8mb4)"
                          for k in key)
        return f"CRC32(CONCAT_WS(0x1f, {parts})) MOD {BUCKETS}"

    def blocks(self, columns: Sequence[str]) -> str:
        """A statement for number, count and digest of every block."""
        return f"SELECT {self.block}, {self.sums(columns)} FROM {self.real} GROUP BY 1 ORDER BY NULL"

    def fingerprints(self, columns: Sequence[str], seed: int) -> str:
        """A statement for number, count and fingerprint of every block. The product of two checksums is 64 bits that do
        not cancel out when rows exchange what they hold, as one checksum's would. What is long is not put together
        first: its length says where it ends."""
        short, long = [], []
        for c in columns:
            column, value = self.table.column(c), quote(c)
            if column is None:
                short.append("'N'")
            elif self.kinds.get(c) in ("text", "binary"):
                short.append(f"IFNULL(LENGTH({value}), 'N')" if column.nullable else f"LENGTH({value})")
                long.append(f"IFNULL({value}, '')" if column.nullable else value)
            else:
                plain = self._plain(column, value)
                short.append(f"IFNULL({plain}, 'N')" if column.nullable else plain)
        first, second = (str(seed & 0xFFFFFFFF),) * 2
        for part in (f"CONCAT_WS(',', {', '.join(short)}, '')", *long):
            first, second = f"CRC32({first}, {part})", f"CRC32C({second}, {part})"
        every = f"BIT_XOR({first} * {second})"
        return f"SELECT {self.block}, COUNT(*), {every} FROM {self.real} GROUP BY 1 ORDER BY NULL"

    @staticmethod
    def _plain(column: Column, value: str) -> str:
        """What is no text, as a text that says all of it: a number without the zeros that it is shown with."""
        if column.kind == "float":
            return f"{value} + 0.0e0"
        return f"{value} + 0" if "zerofill" in column.declared else value

    def wheres(self, numbers: Collection[int] | None) -> Iterator[str]:
        """Conditions that select these blocks, some at once; None: everything."""
        if numbers is None:
            yield ""
            return
        every = sorted(numbers)
        for at in range(0, len(every), _BLOCKS_AT_ONCE):
            part = every[at:at + _BLOCKS_AT_ONCE]
            if self.ranged:
                key = quote(self.table.key[0])
                yield " WHERE " + " OR ".join(
                    f"{key} BETWEEN {n * ROWS_PER_BLOCK} AND {n * ROWS_PER_BLOCK + ROWS_PER_BLOCK - 1}" if n > 0 else
                    f"{key} DIV {ROWS_PER_BLOCK} = {n}" for n in part)
            else:
                yield f" WHERE {self.block} IN ({', '.join(map(str, part))})"


def as_text(value: Any) -> Any:
    """What the driver gives, as text where it is text."""
    if isinstance(value, bytes):
        try:
            return value.decode()
        except UnicodeDecodeError:
            return value
    return value


Batch = Sequence[Any]  # one column's values in a batch, as the driver gives them


def _integers(column: Batch) -> list[Value]:
    return [None if v is None else int(v) for v in column]


def _strings(column: Batch) -> list[Value]:
    return [v.decode("utf-8", "surrogateescape") if isinstance(v, bytes) else None if v is None else str(v)
            for v in column]


def _bytes(column: Batch) -> list[Value]:
    return [None if v is None else bytes(v) for v in column]


READERS: dict[str, Callable[[Batch], list[Value]]] = {
    "int": _integers, "binary": _bytes, "text": _strings, "other": _strings, "float": _strings}


def bound(value: Value) -> Any:
    """A value for the driver; text that is not valid UTF-8 by its bytes."""
    if isinstance(value, str):
        try:
            value.encode()
        except UnicodeEncodeError:
            return value.encode("utf-8", "surrogateescape")
    return value
