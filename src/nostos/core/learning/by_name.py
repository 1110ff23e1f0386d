"""Which texts name a row of another table by what it is called there: by its slug, login, code, uuid."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row, Table
from nostos.core.learning.findings import Certainty, Finding
from nostos.core.profiles.places import Place
from nostos.core.values import words

_LOOKED_UP, _FEW = 150, 3
_NOT = frozenset({"path", "filename", "url", "hash", "domain"})  # they name no rows


def named_rows_in(database: Database, table: Table, rows: Sequence[Row], tables: Mapping[str, Table]
                  ) -> Iterator[Finding]:
    """The columns of a table whose texts are other rows' names: called after the table and the name, `room_slug`."""
    alone = {u[0] for u in table.uniques if len(u) == 1}
    for column in table.stored:
        parts = words.words(column)
        table_words = [w for w in parts if w in words.NAMES and w not in _NOT]
        rest = "_".join(w for w in parts if w not in table_words)
        if not table_words or not rest or column in table.key or column in alone:
            continue
        values = list(dict.fromkeys(row[column] for row in rows if isinstance(row[column], str) and row[column]))
        some = values[:_LOOKED_UP]
        for other in tables.values():
            alike = [u[0] for u in (*other.uniques, other.key) if len(u) == 1
                     and words.words(u[0])[-1:] == (table_words[-1],)]
            goal = alike[0] if alike and other.name != table.name else None
            if goal is None or len(some) < _FEW or words.likeness(rest, other.name, table.name) < 0.8:
                continue
            present = {row[goal] for row in database.find_any(other, goal, some, {})}
            if sum(v in present for v in some) >= 0.9 * len(some):
                yield Finding(Place(table.name, column), Certainty.SURE, other.name, (
                    f"for {other.name}: its name, `{column}`; {len(present)} of {len(some)} values are a "
                    f"{goal} there",),
                    to_column=goal)
                break
