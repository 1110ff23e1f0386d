"""Conditions on a row's columns, and which of several entries is the first that fits one."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from fnmatch import fnmatchcase
from typing import Generic, TypeVar

from nostos.core.database.schema import Value

Where = tuple[tuple[str, str], ...]
T = TypeVar("T")
_KEPT = 10_000  # answers that are remembered


def holds(where: Where, row: Mapping[str, Value]) -> bool:
    """Whether a row's columns match these shell wildcards."""
    return all(fnmatchcase(str(row.get(column)), pattern) for column, pattern in where)


def plain_values(where: Where) -> dict[str, str]:
    """The conditions that no wildcard is in: a database can look for these itself."""
    return {column: value for column, value in where if not set(value) & set("*?[")}


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
