"""What points back: a page says its latest version, and the version says its page. That a column's numbers lead to rows
which say, each, the very row that they were found in, is no chance."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row, Table

_ROWS = 200  # of a table, that are followed
_FEWEST, _SHARE = 4, 0.9  # rows that have to be led back to, and which part of those that lead anywhere


class PointingBack:
    """Follows columns there and back, each once. samples: rows, by table."""

    def __init__(self, database: Database, tables: Mapping[str, Table], samples: Mapping[str, Sequence[Row]]) -> None:
        self._database, self._tables, self._samples = database, tables, samples
        self._followed: dict[tuple[str, str, str], dict[int, Row]] = {}

    def bits(self, table: str, column: str, goal: str, back: Iterable[str]) -> tuple[float, int, str]:
        """How much speaks for a column's pointing at `goal`, of which columns point at the table: bits, the rows that
        are led back to, and by which column."""
        mine, theirs = self._tables[table], self._tables[goal]
        rows = [row for row in self._samples.get(table, ()) if isinstance(row.get(column), int) and row[column]][:_ROWS]
        best = 0.0, 0, ""
        for name in back if len(rows) >= _FEWEST and mine.surrogate else ():
            share = self._rows(table, column, theirs, rows)
            led = [row for row in rows if row[column] in share]
            same = {row[mine.key[0]] for row in led if share[row[column]].get(name) == row[mine.key[0]]}  # type: ignore[index]
            if len(same) >= _FEWEST and len(same) >= _SHARE * len(led):
                best = max(best, (len(same) * math.log2(len(rows)), len(same), name))
        return best

    def _rows(self, table: str, column: str, goal: Table, rows: Sequence[Row]) -> dict[int, Row]:
        asked = (table, column, goal.name)
        if asked not in self._followed:
            numbers = sorted({row[column] for row in rows})  # type: ignore[type-var]
            self._followed[asked] = {int(str(r[goal.key[0]])): r for r in self._database.find_any(
                goal, goal.key[0], numbers, {})}
        return self._followed[asked]
