"""Which tables are made from others: what was proved to follow, and nothing that is merely called so."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row, Table, Value
from nostos.core.learning.findings import Finding
from nostos.core.learning.places import key_columns

_LEAST, _MOST = 20, 400  # rows that are looked at
_TELLING = 2  # columns that repeat others, and do not hold the same in every row


def repeats(database: Database, table: Table, rows: Sequence[Row], sure: Sequence[Finding],
            tables: Mapping[str, Table]) -> bool:
    """Whether every row of a table repeats, column by column, what the row holds that it points at: whoever has the
    one can make the other. Nothing may be left over but the row's own key and the reference; all rows that are looked
    at must agree, and there must be enough of them."""
    if len(rows) < _LEAST or key_columns(table) is not None:
        return False
    goals = {f.place.column: f.to for f in sure
             if f.place.table == table.name and not f.place.where and not f.place.path and f.to != table.name}
    goals |= {fk.columns[0]: fk.target for fk in table.foreign_keys if len(fk.columns) == 1 and fk.target != table.name}
    return any(_follows(database, table, rows[:_MOST], column, tables[goal]) for column, goal in goals.items()
               if goal in tables and tables[goal].surrogate)


def _follows(database: Database, table: Table, rows: Sequence[Row], column: str, goal: Table) -> bool:
    rest = [c for c in table.stored if c != column and not (table.surrogate and c in table.key)]
    wanted: list[Value] = list({row[column] for row in rows if row[column] is not None})
    other_rows = {row[goal.key[0]]: row for row in database.find_any(goal, goal.key[0], wanted, {})}
    # Not its key: where every table counts on by one at a time, numbers are the same, and mean other things.
    alike: dict[str, set[str]] = {c: set(goal.stored) - set(goal.key) for c in rest}
    for row in rows:
        above = other_rows.get(row[column])
        if above is None:
            return False
        for c in rest:
            alike[c] &= {g for g in alike[c] if above[g] == row[c]}
    telling = [c for c in rest if len({row[c] for row in rows}) > 1]
    return len(telling) >= _TELLING and all(alike.values())
