"""What systems do by themselves: names and numbers that they give out, jobs that they keep, what they treat as one."""

from __future__ import annotations

from collections.abc import Mapping
from fnmatch import fnmatchcase

from nostos.core.database.schema import Value
from nostos.core.profiles.conditions import Where
from nostos.core.records import dataclass


@dataclass(frozen=True)
class Slug:
    """A column by which things answer to an address: with the columns `within`, it is the only one. unless: which rows
    do not answer to any, by the patterns that one of their columns fits."""

    table: str
    column: str
    within: tuple[str, ...] = ()
    unless: tuple[tuple[str, tuple[str, ...]], ...] = ()

    def excludes(self, row: Mapping[str, Value]) -> bool:
        """Whether a row needs no name of its own, for what it says of itself."""
        return any(fnmatchcase(str(row.get(c)), p) for c, patterns in self.unless for p in patterns)


@dataclass(frozen=True)
class Job:
    """What a system does by itself to a row of `table` for which `where` holds, at the time (UTC) in a column: an entry
    called `name` in its list of jobs, which is kept in a setting."""

    table: str
    time: str
    setting: str
    name: str
    where: Where = ()


@dataclass(frozen=True)
class Numbered:
    """Settings (a pattern) that hold parts by numbers, which every side gives out. mentions: the setting that names
    such parts, as the setting's name without `strip`, a dash, and the number."""

    setting: str
    strip: str
    mentions: str


@dataclass(frozen=True)
class Along:
    """Rows of `table` that `column` makes another row's: when they begin or cease to be as `where` says, that is
    part of what is done to that row, though they are no part of it otherwise."""

    table: str
    column: str
    where: Where


@dataclass(frozen=True)
class Together:
    """Items that are one update, if a file says so by being another: all of them go home, or none."""

    items: tuple[str, ...]
    file: str
