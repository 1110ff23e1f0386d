"""Which row of one side is which row of the other: canonical names for keys.

A row's canonical key is the key it had at the anchor. A row born in staging since is `s` and its key there, one born on
live is known by live's key, unless live gave out an old key again: then it is `l` and the key. When a row has been
carried home, both sides' keys lead to live's.
"""

from __future__ import annotations

from collections.abc import Callable
from enum import StrEnum

from nostos.core.database.schema import Key, Value


class Side(StrEnum):
    LIVE = "live"
    STAGING = "staging"

    @property
    def other(self) -> Side:
        return Side.STAGING if self is Side.LIVE else Side.LIVE


class Keys:
    """The canonical names of one side's surrogate keys.

    pairs: the names that differ from the key itself. known: whether the side has a row with this key, as far as
    the anchor knows; an id for which it has not points at nothing and keeps a name of its own.
    """

    def __init__(self, pairs: dict[str, dict[Value, str]], known: Callable[[str, Value], bool]) -> None:
        self._names: dict[str, dict[Value, str]] = {t: dict(p) for t, p in pairs.items()}
        self._keys: dict[str, dict[str, Value]] = {t: {c: k for k, c in p.items()} for t, p in pairs.items()}
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

    def born(self, table: str, key: Value) -> None:
        """A row born since the anchor whose key is its own name."""
        self._born.setdefault(table, set()).add(key)

    def name(self, table: str, key: Value) -> str:
        """The canonical name of a key; `x` and the key when it points at nothing on this side."""
        found = self._names.get(table, {}).get(key)
        if found is not None:
            return found
        if key in self._born.get(table, ()) or self._known(table, key):
            return str(key)
        return f"x{key!r}"

    def key(self, table: str, name: str) -> Value:
        """This side's key for a canonical name; None when this side has no such row."""
        found = self._keys.get(table, {}).get(name)
        if found is not None:
            return found
        if name.startswith("x"):
            return int(name[1:])
        if name.startswith(("s", "l")) or (table, name) in self.absent:
            return None
        key = int(name)
        # The key may have gone to another row here, which then has another name.
        return None if self._names.get(table, {}).get(key, name) != name else key


RowName = tuple[str, Key]  # (table, canonical key)
