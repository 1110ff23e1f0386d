"""Rows set aside in a temporary table of a server's, from which they are written by one statement."""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any, Protocol

from nostos.core.database.protocol import Block, Draft
from nostos.core.database.schema import Key, Row, Table, Value


class DraftSql(Protocol):
    """What a server's draft is made with, in its own words."""

    @staticmethod
    def quoted(name: str) -> str: ...

    def run(self, sql: str, values: Sequence[Value] = ()) -> list[tuple[Any, ...]]: ...

    def held(self, table: str) -> str: ...

    def fill_draft(self, name: str, table: Table, rows: Sequence[Sequence[Value]]) -> None:
        """Add rows to a draft. table: the draft's own columns."""

    def draft_rows(self, name: str, table: Table) -> Iterator[tuple[Value, ...]]:
        """The rows of a draft, as they come of any table."""

    def draft_sums(self, name: str, table: Table, on: str, hold: bool) -> str:
        """A statement for the number of the table's rows that a draft (`s`) meets (`t`), and the sum of their digests.
        """

    def draft_update(self, name: str, table: Table, on: str, sets: Sequence[tuple[str, str]]) -> str:
        """A statement that sets columns of the table's to columns of the draft's."""


class ServerDraft(Draft):
    """See `Draft`. It goes with the connection."""

    def __init__(self, database: DraftSql, table: Table, columns: Sequence[str],
                 rows: Sequence[tuple[Key, Sequence[Value]]]) -> None:
        self._database, self._table = database, table
        quote = database.quoted
        self.name = f"nostos_draft_{secrets.token_hex(8)}"
        names = [*table.key, *columns]
        # Names of its own, so that no statement about both can mean the other.
        called = {c: f"nostos_{n}" for n, c in enumerate(names)}
        own = replace(table, columns=tuple(replace(c, name=called[c.name]) for n in names
                                           if (c := table.column(n)) is not None), key=(), uniques=())
        database.run(f"CREATE TEMPORARY TABLE {quote(self.name)} AS SELECT "
                     + ", ".join(f"{quote(c)} AS {quote(own_name)}" for c, own_name in called.items())
                     + f" FROM {database.held(table.name)} WHERE 1 = 0")
        database.fill_draft(self.name, own, [(*key, *values) for key, values in sorted(rows, key=repr)])
        size = len(table.key)
        self.rows: dict[Key, Row] = {row[:size]: dict(zip(columns, row[size:], strict=True))
                                     for row in database.draft_rows(self.name, own)}
        self._on = " AND ".join(f"t.{quote(k)} = s.{quote(called[k])}" for k in table.key)
        self._sets = [(quote(c), quote(called[c])) for c in columns]
        self.first = self.look()  # so that what the server cannot do is known before it matters

    def look(self, hold: bool = False) -> Block:
        count, total = self._database.run(self._database.draft_sums(self.name, self._table, self._on, hold))[0]
        return Block(int(count), int(total or 0) % (1 << 64))

    def write(self) -> None:
        self._database.run(self._database.draft_update(self.name, self._table, self._on, self._sets))
