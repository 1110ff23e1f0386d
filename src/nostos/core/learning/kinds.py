"""What kinds of rows a table holds, where a column says so: of it, or of a table that goes with it row by row.

A place all of whose numbers are rows of one kind, of a table of many kinds, holds them by no chance.
"""

from __future__ import annotations

from bisect import bisect_left
from collections import Counter
from collections.abc import Mapping, Sequence

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row, Table
from nostos.core.expressions import expression
from nostos.core.records import dataclass
from nostos.core.values import words
from nostos.core.values.structures import readable

_SAYS_KIND = frozenset({"type", "kind", "taxonomy", "class", "model", "category"})
_KIND = expression(r"[A-Za-z][A-Za-z_-]{1,39}")
_MOST = 40  # kinds
_SAMPLE = 400
_MEDIA = words.listed("media")


@dataclass(frozen=True)
class _KindColumns:
    """Where the kind of a table's rows stands: in which table, under which column is the row's key, in which its kind.
    """

    table: Table
    key: str
    column: str
    shares: Mapping[str, float]


def sampled(database: Database, table: Table, rows: int) -> list[Row]:
    """So many rows of a table, to be looked at: with the texts that columns of bytes hold."""
    return [*map(readable, database.sample(table, rows))]


class Kinds:
    """Which kinds of rows a table's other tables keep by name: `content_type`, `object_type` and their like."""

    def __init__(self, database: Database, tables: Mapping[str, Table], samples: Mapping[str, Sequence[Row]]) -> None:
        """samples: rows of tables; what is not in it is read when it is asked for."""
        self.database = database
        self.tables = tables
        self.samples = dict(samples)
        self._known: dict[str, _KindColumns | None] = {}
        self._in_order: dict[str, list[tuple[int, str]]] = {}  # keys and kinds

    def of(self, table: str) -> _KindColumns | None:
        """Where the kinds of a table's rows are read from."""
        if table not in self._known:
            self._known[table] = self._own(self.tables[table]) or self._beside(self.tables[table])
        return self._known[table]

    def share(self, table: str, kind: str, low: int, high: int) -> float:
        """Which part of a table's rows with keys from low to high are of a kind, in what is read of it: rows of one
        kind were often made one after the other."""
        where = self.of(table)
        if where is None:
            return 1.0
        if table not in self._in_order:
            self._in_order[table] = sorted((int(str(r[where.key])), str(r[where.column])) for r in self._rows(
                where.table) if isinstance(r[where.key], int))
        every = self._in_order[table]
        some = every[bisect_left(every, (low, "")):bisect_left(every, (high + 1, ""))]
        return sum(names == kind for _, names in some) / len(some) if some else 1.0

    def named(self, table: str) -> tuple[str, ...]:
        """What the kinds of a table's rows are called; nothing where nothing says so."""
        kind = self.of(table) if table in self.tables else None
        return tuple(kind.shares) if kind is not None else ()

    def own(self, table: str) -> tuple[str, tuple[str, ...]]:
        """The column in which a table itself says the kinds of its rows, and these; nothing where it does not."""
        kind = self.of(table) if table in self.tables else None
        return (kind.column, tuple(kind.shares)) if kind is not None and kind.table.name == table else ("", ())

    def _rows(self, table: Table) -> Sequence[Row]:
        if not self.samples.get(table.name):
            self.samples[table.name] = sampled(self.database, table, _SAMPLE)
        return self.samples[table.name]

    def _own(self, table: Table) -> _KindColumns | None:
        for column in table.stored:
            if words.words(column)[-1:] and words.words(column)[-1] in _SAYS_KIND:
                values = Counter(str(row[column]) for row in self._rows(table))
                if 1 < len(values) <= _MOST and all(_KIND.fullmatch(v) for v in values):
                    total = sum(values.values())
                    return _KindColumns(table, table.key[0], column, {k: n / total for k, n in values.items()})
        return None

    def _beside(self, table: Table) -> _KindColumns | None:
        """The kinds that another table gives to a table's rows: which it names by the very name of their key."""
        for other in self.tables.values():
            key = table.key[0]
            if other.name != table.name and key not in ("id", "ID") and key in other.stored and key not in other.key:
                kind = self._own(other) if any({key} < {*u} for u in (*other.uniques, other.key)) else None
                if kind is not None and any({key, kind.column} == {*u} for u in (*other.uniques, other.key)):
                    return _KindColumns(other, key, kind.column, kind.shares)
        return None

    def among(self, table: str, numbers: Sequence[int]) -> Counter[str]:
        """How many of these numbers are rows of each kind; empty where the table has no kinds."""
        where = self.of(table)
        if where is None or not numbers:
            return Counter()
        wanted = set(numbers)
        kinds: dict[int, str] = {}
        for row in self.database.find_any(where.table, where.key, list(numbers), {}):
            if isinstance(row[where.key], int) and row[where.key] in wanted:
                kinds[int(str(row[where.key]))] = str(row[where.column])
        return Counter(kinds.values())


def says(name: str, kind: str) -> bool:
    """Whether a name says a kind: with its words, the beginning of one, or as what pictures are called."""
    mine, theirs = words.words(name), words.words(kind)
    if not theirs:
        return False
    if any(mine[at:at + len(theirs)] == theirs for at in range(len(mine))):
        return True
    if set(theirs) & _MEDIA and set(mine) & _MEDIA:
        return True
    return len(theirs) == 1 and any(len(w) >= 3 and theirs[0].startswith(w) and w not in words.MEASURES for w in mine)
