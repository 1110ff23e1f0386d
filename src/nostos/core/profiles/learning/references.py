"""Which columns, keys and leaves point at which tables: by names, by values, by what stands beside them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row, Table, Value
from nostos.core.profiles.learning import words
from nostos.core.profiles.learning.findings import Certainty, Finding, Place
from nostos.core.values import structures

ROWS = 2000  # of a table, that are looked at
_VALUES = 150  # of a place, that are looked up
_KINDS = 40  # values of a discriminating column
_TYPES = frozenset({"type", "kind", "model", "class"})
_THINGS = frozenset({"object", "item", "entity", "record", "target", "subject", "owner", "related", "content", "base"})
_KEYS = 60  # of a table of keys and values
_NUMBER = re.compile(r"[1-9][0-9]{0,18}")
_LIST = re.compile(r"\s*[1-9]\d*(?:\s*,\s*[1-9]\d*)+\s*")


@dataclass(frozen=True)
class Sampled:
    """Values that stand at a place: numbers that may be ids. other: how many values are none."""

    numbers: tuple[int, ...]
    other: int
    many: bool = False


def number(value: object) -> int | None:
    """A value as a number that may be an id."""
    if isinstance(value, bool):
        return None
    if isinstance(value, int):
        return value if value > 0 else None
    return int(value) if isinstance(value, str) and _NUMBER.fullmatch(value) else None


def numbers_in(value: object) -> list[int]:
    """The numbers of a list of them, or the one that a value is."""
    one = number(value)
    if one is not None:
        return [one]
    return [int(n) for n in re.findall(r"\d+", value)] if isinstance(value, str) and _LIST.fullmatch(value) else []


def sampled(values: Iterable[object]) -> Sampled:
    found: list[int] = []
    other, many = 0, False
    for value in values:
        if value is None or value in (0, "", "0"):
            continue
        here = numbers_in(value)
        other += not here
        many = many or len(here) > 1
        found += here
    return Sampled(tuple(dict.fromkeys(found)), other, many)


def key_columns(table: Table) -> tuple[str, str] | None:
    """The columns of a table of keys and values: what the value is called, and the value; None where it is none."""
    texts = [c.name for c in table.columns if _is_text(c.declared) and not c.generated]
    value = next((c for c in texts if words.words(c)[-1:] in (("value",), ("data",), ("content",), ("val",))), None)
    key = next((c for c in texts if c != value and words.words(c)[-1:] in (
        ("key",), ("name",), ("field",), ("option",), ("attribute",), ("property",), ("code",))), None)
    return (key, value) if key and value else None


def _is_text(declared: str) -> bool:
    return bool(re.search(r"(?i)char|text|json|clob|^$", declared))


def places(table: Table, rows: Sequence[Row], titles: Mapping[str, Mapping[str, str]] | None = None
           ) -> Iterator[tuple[Place, str, Sampled]]:
    """Every place of a table where a number may stand, with the name that says what it is, and its values. titles: what
    the rows of tables of types are called, by the column that points at them."""
    pair = key_columns(table)
    own = set(table.key) if table.surrogate else set()
    for column in table.stored:
        if column in own or (pair and column == pair[1]):
            continue
        values = [row[column] for row in rows]
        kind = discriminator(table, column)
        for value, name in named_kinds(table, kind, rows, titles or {}).items() if kind else ():
            yield Place(table.name, column, ((kind or "", value),)), f"{name} id", sampled(
                row[column] for row in rows if str(row[kind or ""]) == value)
        yield Place(table.name, column), column, sampled(values)
        yield from _leaves(Place(table.name, column), values)
    if pair:
        by_key: dict[str, list[Value]] = {}
        for row in rows:
            if isinstance(row[pair[0]], str):
                by_key.setdefault(str(row[pair[0]]), []).append(row[pair[1]])
        common = sorted(by_key, key=lambda k: -len(by_key[k]))[:_KEYS]
        for name in common:
            if re.search(r"\d|[*?\[]", name) is None:
                place = Place(table.name, pair[1], ((pair[0], name),))
                yield place, name, sampled(by_key[name])
                yield from _leaves(place, by_key[name])


def discriminator(table: Table, column: str) -> str | None:
    """The column that says what kind of thing a number of another column is: `object_type` beside `object_id`, `type`
    beside `item`; None where there is none."""
    types = [c for c in table.stored if set(words.words(c)) & _TYPES and c != column]
    wanted = set(words.pointing(column)) - _THINGS
    near = [c for c in types if set(words.words(c)) - _TYPES - words.IDS - _THINGS == wanted]
    return near[0] if len(near) == 1 else None


def named_kinds(table: Table, column: str, rows: Sequence[Row], titles: Mapping[str, Mapping[str, str]]) -> dict[str,
                                                                                                                 str]:
    """What the values of a discriminating column mean, as names. titles: of the rows of tables of types, by column."""
    values = {str(row[column]) for row in rows if row.get(column) not in (None, "")}
    said = titles.get(f"{table.name}.{column}", {})
    return {v: said.get(v, v.rpartition("\\")[2].rpartition(".")[2]) for v in values} if len(values) <= _KINDS else {}


def _leaves(place: Place, values: Sequence[object]) -> Iterator[tuple[Place, str, Sampled]]:
    """Leaves of structures, by their paths; numbers of entries stand as `*`."""
    found: dict[Place, list[object]] = {}
    for value in values[:_VALUES]:
        if isinstance(value, str) and value[:1] in ("{", "[", "a", "O"):
            tree = structures.read(value)
            for path, leaf in structures.leaves(tree) if tree is not None else ():
                found.setdefault(place.at(path), []).append(leaf)
    for at, leaves in found.items():
        yield at, at.inner or (at.where[0][1] if at.where else at.column), sampled(leaves)


class Judge:
    """Judges places by the tables that there are."""

    def __init__(self, database: Database, tables: Mapping[str, Table], people: Sequence[str]) -> None:
        self.database = database
        self.tables = {n: t for n, t in tables.items() if t.surrogate}
        self.people = [p for p in people if p in self.tables]

    def judge(self, place: Place, name: str, values: Sampled) -> Finding | None:
        """What a place is; None where nothing speaks for anything."""
        table = self.tables.get(place.table)
        column = table.column(place.column) if table is not None else None
        empty = not values.numbers and (not words.says_id(name) or column is None or _is_text(column.declared))
        if values.other > len(values.numbers) or empty:
            return None
        likely = self._likely(place, name)
        if words.says_measure(name) and not any(words.likeness(name, t, place.table) >= 0.8 for t in self.tables):
            return Finding(place, Certainty.NONE, "", (f"`{name}` says that it counts, measures or ranks",))
        if not likely:
            return None
        best = likely[0][0]
        close = [table for score, table in likely if score >= best - 0.04]
        shares = {table: self._share(table, values.numbers) for table in close}
        held = [t for t in close if shares[t] is None or (shares[t] or 0) >= 0.5]
        if len(held) > 1:
            full = [t for t in held if shares[t] == 1.0]
            held = full if len(full) == 1 and values.numbers else held
        evidence = tuple(self._evidence(name, table, shares[table], values) for table in close)
        if len(held) == 1:
            share = shares[held[0]]
            firm = (best >= 0.8 and share is not None and share >= 0.9) or (
                best >= 0.85 and words.says_id(name) and (share is None or share >= 0.5))
            return Finding(place, Certainty.SURE if firm else Certainty.OPEN, held[0], evidence, values.many)
        if held:
            return Finding(place, Certainty.OPEN, "", evidence, values.many)
        return Finding(place, Certainty.OPEN, close[0], evidence, values.many) if words.says_id(name) else None

    def _likely(self, place: Place, name: str) -> list[tuple[float, str]]:
        found = [(words.likeness(name, table, place.table), table) for table in self.tables]
        found = [(score, table) for score, table in found if score >= 0.8]
        if not found and words.says_person(name):
            found = [(0.82, table) for table in self.people]
        if not found and words.says_parent(name) and place.table in self.tables:
            found = [(0.82, place.table)]
        return sorted(found, key=lambda f: (-f[0], f[1]))

    def _share(self, table: str, numbers: Sequence[int]) -> float | None:
        """Which part of these numbers are keys of a table; None where there are no numbers."""
        if not numbers:
            return None
        some = spread(numbers, _VALUES)
        return len(self.there(table, some)) / len(some)

    def there(self, table: str, numbers: Sequence[int]) -> set[int]:
        """Which of these are keys of a table."""
        key = self.tables[table].key[0]
        found = self.database.find_any(self.tables[table], key, list(numbers), {})
        return {int(str(row[key])) for row in found} & set(numbers)

    @staticmethod
    def _evidence(name: str, table: str, share: float | None, values: Sampled) -> str:
        if share is None:
            return f"for {table}: its name, `{name}`; it holds no values yet"
        seen = len(values.numbers)
        return f"for {table}: its name, `{name}`; {share:.0%} of {seen} values are its keys"


def spread(values: Sequence[int], most: int) -> list[int]:
    """Some of these values, from all over."""
    every = sorted(values)
    return every if len(every) <= most else [every[n * len(every) // most] for n in range(most)]
