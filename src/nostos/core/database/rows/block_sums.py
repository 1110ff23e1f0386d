"""Adding up rows that pass by into blocks, as a database adds up those that it holds."""

from __future__ import annotations

from collections.abc import Iterable

from nostos.core.database.protocol import Block
from nostos.core.database.rows.digests import add_digests, block_of
from nostos.core.database.rows.row_bytes import row_form
from nostos.core.database.schema import Key, Table, Value


class Sums:
    """What blocks of rows add up to so far."""

    def __init__(self) -> None:
        self._totals: dict[int, list[int]] = {}

    def add(self, number: int, digest: bytes) -> None:
        """Add a row of a block, by its digest."""
        total = self._totals.setdefault(number, [0, 0])
        total[0] += 1
        total[1] = add_digests(total[1], (digest,))

    def add_by_keys(self, rows: Iterable[tuple[Key, bytes]]) -> Sums:
        """Add rows by their keys and digests. Returns these sums."""
        for key, digest in rows:
            self.add(block_of(key), digest)
        return self

    def add_rows(self, table: Table, rows: Iterable[tuple[Value, ...]]) -> None:
        """Add whole rows of a table, by the values of its stored columns."""
        form = row_form(table, table.stored)
        places = [table.stored.index(k) for k in table.key]
        for values in rows:
            self.add(block_of(tuple(values[p] for p in places)), form.digest(form.write(values)))

    def blocks(self) -> dict[int, Block]:
        """The blocks so far, by their numbers."""
        return {number: Block(count, digest) for number, (count, digest) in self._totals.items()}
