"""Which row of one side is which row of the other: canonical names for keys.

A row's canonical key is the key it had at the anchor. A row born in staging since is `s` and its key there, one born on
live is known by live's key, unless live gave out an old key again: then it is `l` and the key. When a row has been
carried home, both sides' keys lead to live's.

The grammar of a canonical name, as it stands in tokens and in the anchor:

    name    = [ origin ] number
    origin  = "s"   born in staging since the anchor; the number is staging's
            / "l"   born on live under a key that the anchor knows as another row's; the number is live's
            / "g"   made in staging by its guards' doing, so that it never goes home; the number is staging's
            / "x"   points at nothing on the side that it was read from
    number  = [ "-" ] 1*DIGIT       without an origin: the row's key at the anchor, or of a row born on live
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from enum import StrEnum
from functools import lru_cache

from nostos.core.database.schema import Key, Value
from nostos.core.records import dataclass
from nostos.core.values.names import packed, unpacked


class Side(StrEnum):
    """The two sites of a voyage. Sorts and prints as its word."""

    LIVE = "live"
    STAGING = "staging"

    @property
    def other(self) -> Side:
        return Side.STAGING if self is Side.LIVE else Side.LIVE

    @property
    def where(self) -> str:
        """The side with its preposition, for a sentence: `on live`, `in staging`."""
        return "on live" if self is Side.LIVE else "in staging"


class Origin(StrEnum):
    """Where a row's canonical name comes from."""

    ANCHOR = ""
    STAGING = "s"
    LIVE = "l"
    GUARDS = "g"
    NOWHERE = "x"

    @classmethod
    def born(cls, side: Side) -> Origin:
        """The origin of what a side has gained under a number that is its own."""
        return cls.STAGING if side is Side.STAGING else cls.LIVE


@dataclass(frozen=True)
class CanonicalName:
    """A canonical name, taken apart; `str` writes it."""

    origin: Origin
    number: int

    def __str__(self) -> str:
        return f"{self.origin}{self.number}"

    @classmethod
    def parse(cls, name: object) -> CanonicalName:
        """Raises ValueError for what is none."""
        return _parsed(str(name))


@lru_cache(maxsize=1 << 12)
def _parsed(name: str) -> CanonicalName:
    match = re.fullmatch(r"([slgx]?)(-?[0-9]+)", name)
    if match is None:
        raise ValueError(f"{name!r} is no canonical name")
    return CanonicalName(Origin(match.group(1)), int(match.group(2)))


def canonical(origin: Origin, key: Value) -> str:
    """The canonical name for a surrogate key. Raises ValueError for a key that is no number."""
    return str(CanonicalName(origin, int(str(key))))


def of_anchor(name: object) -> int | None:
    """The number of a row that the anchor may know; None for a row born apart, and for one that is nowhere."""
    try:
        parsed = CanonicalName.parse(name)
    except ValueError:
        return None
    return parsed.number if parsed.origin is Origin.ANCHOR else None


def nowhere_number(name: str) -> int | None:
    """The number that points at nothing; None for a row's name."""
    parsed = CanonicalName.parse(name)
    return parsed.number if parsed.origin is Origin.NOWHERE else None


def origin_of(name: object) -> Origin | None:
    """Where a name was given; None for what is no canonical name."""
    try:
        return CanonicalName.parse(name).origin
    except ValueError:
        return None


_STEPS = "/steps"  # after a table's name: of its rows, their steps in a tree


def steps_of(table: str) -> str:
    """Where pairs of steps are kept, for `AnchorRows.pair`: staging's and live's, with `=` between."""
    return table + _STEPS


_NAMES = "/names"  # after a table's and a column's name: of its rows, what each side calls them
FILES = "/files"  # paths of files in live's words, and staging's


_NUMBERS = "/numbers"  # after a setting's name: of its parts, staging's and live's


def numbers_of(setting: str) -> str:
    """Where pairs of numbers are kept, for `AnchorRows.pair`."""
    return setting + _NUMBERS


def names_of(table: str, column: str) -> str:
    """Where pairs of names are kept, for `AnchorRows.pair`; see values/names."""
    return f"{table}.{column}{_NAMES}"


class Keys:
    """The canonical names of one side's surrogate keys.

    pairs: the names that differ from the key itself. known: whether the side has a row with this key, as far as
    the anchor knows; an id for which it has not points at nothing and keeps a name of its own.
    """

    def __init__(self, pairs: dict[str, dict[Value, str]], known: Callable[[str, Value], bool]) -> None:
        names = {t: dict(p) for t, p in pairs.items()}
        self.files: dict[str, str] = {str(k): n for k, n in names.pop(FILES, {}).items()}
        self.numbers: dict[str, dict[int, int]] = {
            t.removesuffix(_NUMBERS): {int(str(k)): int(n) for k, n in names.pop(t).items()}
            for t in pairs if t.endswith(_NUMBERS)}
        self._steps = {t: names.pop(t) for t in pairs if t.endswith(_STEPS)}
        self._called = {t: names.pop(t) for t in pairs if t.endswith(_NAMES)}
        self._names: dict[str, dict[Value, str]] = names
        self._keys: dict[str, dict[str, Value]] = {t: {c: k for k, c in p.items()} for t, p in names.items()}
        self._born: dict[str, set[Value]] = {}
        self._known = known
        self.absent: set[tuple[str, str]] = set()  # canonical names that this side has no row for, though they look it

    def claim(self, table: str, key: Value, name: str) -> None:
        """From now on this side's `key` is called `name`."""
        old = self._names.setdefault(table, {}).get(key)
        if old is not None:
            self._keys[table].pop(old, None)
        self._names[table][key] = name
        self._keys.setdefault(table, {})[name] = key
        self._born.setdefault(table, set()).add(key)

    def step(self, table: str, key: Value, step: str) -> str:
        """The step that live has in a tree where this side has this one, if live's was given out anew."""
        mine, _, lives = self._steps.get(table + _STEPS, {}).get(key, "").partition("=")
        return lives if lives and mine == step else step

    def call(self, table: str, column: str, key: Value, live: str, staging: str) -> None:
        """Take down what a row's column is on live, and in staging."""
        self._called.setdefault(names_of(table, column), {})[key] = packed(live, staging)

    def called(self, table: str, column: str, key: Value) -> tuple[str, str] | None:
        """What a row's column is on live and in staging, where that is not the same."""
        name = self._called.get(names_of(table, column), {}).get(key) if self._called else None
        return unpacked(name) if name is not None else None

    def namesakes(self, table: str, column: str, both: tuple[str, str]) -> Iterator[Value]:
        """The keys of rows for which it is the other way round."""
        for key, names in self._called.get(names_of(table, column), {}).items():
            if unpacked(names) == both[::-1]:
                yield key

    def names(self) -> Iterator[tuple[str, str, Value, tuple[str, str]]]:
        """Every such row: table, column, key, and what it is called on live and in staging."""
        for place, rows in self._called.items():
            table, _, column = place.removesuffix(_NAMES).rpartition(".")
            for key, both in rows.items():
                yield table, column, key, unpacked(both)

    def born(self, table: str, key: Value) -> None:
        """A row born since the anchor whose key is its own name."""
        self._born.setdefault(table, set()).add(key)

    def name(self, table: str, key: Value) -> str:
        """The canonical name of a key; `x` and the key when it points at nothing on this side."""
        name = self._names.get(table, {}).get(key)
        if name is not None:
            return name
        if key in self._born.get(table, ()) or self._known(table, key):
            return str(key)
        return canonical(Origin.NOWHERE, key)

    def renamed(self) -> Iterator[tuple[str, Value, str]]:
        """Every key whose canonical name is another: table, key, name."""
        for table, names in self._names.items():
            for key, name in names.items():
                yield table, key, name

    def taken(self, table: str) -> Iterator[Value]:
        """Keys by which this side calls what is settled under another name, and no row by the name that they look like.
        """
        keys = self._keys.get(table, {})
        yield from (k for k in self._names.get(table, {}) if str(k) not in keys and self.is_anothers(table, k, str(k)))

    def is_anothers(self, table: str, key: Value, name: str) -> bool:
        """Whether this side calls by a key what is settled under another name than this."""
        called = self.name(table, key)
        return called != name and CanonicalName.parse(called).origin is Origin.ANCHOR

    def key(self, table: str, name: str) -> Value:
        """This side's key for a canonical name; None when this side has no such row."""
        key = self._keys.get(table, {}).get(name)
        if key is not None:
            return key
        parsed = CanonicalName.parse(name)
        if parsed.origin is Origin.NOWHERE:
            return parsed.number
        if parsed.origin is not Origin.ANCHOR or (table, name) in self.absent:
            return None
        # The key may have gone to another row here, which then has another name.
        return None if self._names.get(table, {}).get(parsed.number, name) != name else parsed.number


RowName = tuple[str, Key]  # (table, canonical key)
