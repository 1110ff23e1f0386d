"""Evidence in bits: what one reason weighs, what all of them come to, and the weights that were measured."""

from __future__ import annotations

import math
import tomllib
from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Mapping, Sequence
from importlib import resources
from typing import Any

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Table
from nostos.core.records import dataclass

WEIGHTS: dict[str, Any] = tomllib.loads((resources.files(__package__) / "weights.toml").read_text(encoding="utf-8"))
SURE = 10.0  # bits: fewer than one in a thousand is wrong
_KEYS = 5000  # of a table, that are kept


@dataclass(frozen=True)
class Evidence:
    """One reason. bits: for the table (above 0), or against it. why: a sentence, and what is filled into it."""

    source: str
    bits: float
    why: tuple[Any, ...]

    def __str__(self) -> str:
        return f"{self.bits:+.1f} {self.why[0].format(*self.why[1:])}"


@dataclass(frozen=True)
class Weighed:
    """What a place may point at: bits and reasons by table, the likeliest first."""

    tables: Mapping[str, tuple[float, tuple[Evidence, ...]]]
    blind: float = 0.0  # bits that names could have given, where they say nothing on this site
    rest: float = 0.0  # the odds that it points at a table that nothing speaks for, all such tables together

    def odds(self, table: str) -> float:
        """log2 of the odds that the place points at this table, against anything else."""
        mine = self.tables[table][0]
        rest = 1.0 + self.rest + sum(2.0 ** min(bits, 500) for t, (bits, _) in self.tables.items() if t != table)
        return mine - math.log2(rest)

    def odds_of_any(self, tables: Iterable[str] | None = None) -> float:
        """log2 of the odds that it points at one of these tables (None: any), against its holding plain numbers."""
        total = sum(2.0 ** min(bits, 500) for t, (bits, _) in self.tables.items() if tables is None or t in tables)
        total += self.rest if tables is None else 0.0
        return math.log2(total) if total > 0 else -99.0

    @property
    def best(self) -> str:
        """The table for which most speaks; empty where there is none."""
        return next(iter(self.tables), "")

    def sure(self) -> str:
        """The table that it points at for sure; empty where it is not sure."""
        return self.best if self.best and self.odds(self.best) >= SURE else ""

    def is_plain(self, tables: Iterable[str] | None = None) -> bool:
        """Whether it points at none of these tables, for sure."""
        return self.odds_of_any(tables) + self.blind <= -SURE

    def reasons(self, table: str) -> tuple[str, ...]:
        """What speaks for and against a table, in sentences, the weightiest first."""
        bits, every = self.tables[table]
        return (f"for {table}: {bits + 0.0:+.0f} bits", *(
            str(e) for e in sorted(every, key=lambda e: -abs(e.bits)) if abs(e.bits) >= 0.5))


class TableKeys:
    """The keys of a table: all of them where they are few, else looked up."""

    def __init__(self, database: Database, table: Table) -> None:
        self.database, self.table = database, table
        self.top = database.top(table) or 0
        self.count = database.count(table.name)
        self._all: list[int] | None = None
        if self.count <= _KEYS:
            self._all = sorted(int(str(row[0])) for row in database.scan(table, table.key) if isinstance(row[0], int))
            self._set = frozenset(self._all)

    def among(self, numbers: Sequence[int]) -> frozenset[int]:
        """Which of these are keys."""
        if self._all is not None:
            return self._set.intersection(numbers)
        here = [n for n in numbers if n <= self.top]
        key = self.table.key[0]
        keys = self.database.find_any(self.table, key, here, {})
        return frozenset(int(str(row[key])) for row in keys).intersection(here)

    def density(self, low: int, high: int) -> float:
        """Which part of the numbers from low to high are keys."""
        high = min(high, self.top)
        if high < low or not self.count:
            return 0.0
        if self._all is None:
            return min(1.0, self.count / max(self.top, 1))
        return (bisect_right(self._all, high) - bisect_left(self._all, low)) / (high - low + 1)


def weight(source: str, category: str) -> float:
    """The bits of a category, as measured; 0 for one that was not seen."""
    bits: float = WEIGHTS[source].get(category, 0.0)
    return bits
