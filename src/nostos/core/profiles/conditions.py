"""Conditions on a row's columns, and which of several entries is the first that fits one."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from fnmatch import fnmatchcase
from functools import lru_cache
from typing import Generic, TypeVar

from nostos.core.database.schema import Value

Where = tuple[tuple[str, str], ...]
T = TypeVar("T")
_WILD = set("*?[")
_KEPT = 10_000  # answers that are remembered


def holds(where: Where, row: Mapping[str, Value]) -> bool:
    """Whether a row's columns match these shell wildcards."""
    for column, pattern, plain in _asked(where):  # a loop, for it is asked of every value of a row
        value = str(row.get(column))
        if value != pattern if plain else not fnmatchcase(value, pattern):
            return False
    return True


@lru_cache(maxsize=4096)
def _asked(where: Where) -> tuple[tuple[str, str, bool], ...]:
    """Conditions, each with whether no wildcard is in it."""
    return tuple((column, pattern, not set(pattern) & _WILD) for column, pattern in where)


def plain_values(where: Where) -> dict[str, str]:
    """The conditions that no wildcard is in: a database can look for these itself."""
    return {column: pattern for column, pattern, plain in _asked(where) if plain}


class FirstThat(Generic[T]):
    """The first of some entries that fits a row, remembered by the values that their conditions look at."""

    def __init__(self, entries: Sequence[T], where: Callable[[T], Where]) -> None:
        self._entries, self._where = entries, where
        self._columns = tuple(dict.fromkeys(c for entry in entries for c, _ in where(entry)))
        self._known: dict[tuple[Value, ...], T | None] = {}

    def of(self, row: Mapping[str, Value]) -> T | None:
        """The first value whose conditions hold for a row; None where none do."""
        if not self._columns:
            return self._entries[0] if self._entries else None
        asked = tuple([row.get(c) for c in self._columns])
        if asked not in self._known:
            if len(self._known) > _KEPT:
                self._known.clear()
            self._known[asked] = next((e for e in self._entries if holds(self._where(e), row)), None)
        return self._known[asked]
