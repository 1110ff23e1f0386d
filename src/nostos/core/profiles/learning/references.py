"""Which columns, keys and leaves point at which tables: by names, by values, by what stands beside them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row, Table, Value
from nostos.core.profiles.learning import markup, words
from nostos.core.profiles.learning.findings import Certainty, Finding, Place
from nostos.core.profiles.model import Reference
from nostos.core.values import structures

ROWS = 2000  # of a table, that are looked at
_VALUES = 150  # of a place, that are looked up
_KINDS = 40  # values of a discriminating column
_TYPES = frozenset({"type", "kind", "model", "class"})
_THINGS = frozenset({"object", "item", "entity", "record", "target", "subject", "owner", "related", "content", "base"})
_PLAIN = frozenset({"id", "pk", "value", "ref", "key", "object", "target", "item", "data", "content", "uid"})
YES_OR_NO = re.compile(r"(?i)bool|^tinyint\(1\)|^bit")  # types of columns
_ORDERS = frozenset({"sort", "order", "position", "pos", "rank", "ordering", "sequence", "weight", "id"})
_ECHOES = 3  # different values, from which on it is no chance that a leaf repeats a column
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
        for kind in discriminators(table, column):
            for value, name in named_kinds(table, kind, rows, titles or {}).items():
                yield Place(table.name, column, ((kind, value),)), f"{name} id", sampled(
                    row[column] for row in rows if str(row[kind]) == value)
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


def discriminators(table: Table, column: str) -> list[str]:
    """The columns that say what kind of thing a number of another column is: `object_type` beside `object_id`, `type`
    beside `item`; the plainest first."""
    types = [c for c in table.stored if set(words.words(c)) & _TYPES and c != column]
    wanted = set(words.pointing(column)) - _THINGS
    near = [c for c in types if set(words.words(c)) - _TYPES - words.IDS - _THINGS == wanted]
    return sorted(near, key=len)


def discriminator(table: Table, column: str) -> str | None:
    """The plainest of the columns that say what a number is; None where there is none."""
    return next(iter(discriminators(table, column)), None)


def named_kinds(table: Table, column: str, rows: Sequence[Row], titles: Mapping[str, Mapping[str, str]]) -> dict[str,
                                                                                                                 str]:
    """What the values of a discriminating column mean, as names. titles: of the rows of tables of types, by column."""
    values = {str(row[column]) for row in rows if row.get(column) not in (None, "")}
    said = titles.get(f"{table.name}.{column}", {})
    return {v: said.get(v, v.rpartition("\\")[2].rpartition(".")[2]) for v in values} if len(values) <= _KINDS else {}


def _leaves(place: Place, values: Sequence[object]) -> Iterator[tuple[Place, str, Sampled]]:
    """Leaves of structures, by their paths, numbers of entries standing as `*`; and attributes in markup."""
    found: dict[Place, list[object]] = {}
    for value in values[:_VALUES]:
        if not isinstance(value, str) or not ("<" in value or structures.may_be_structure(value)):
            continue
        for path, leaf in structures.all_leaves(value):
            if path:
                found.setdefault(place.at(path), []).append(leaf)
            for step, held in markup.attributes(leaf) if isinstance(leaf, str) and "<" in leaf else ():
                found.setdefault(place.at((*path, step)), []).append(held)
    for at, leaves in found.items():
        yield at, called(at), sampled(leaves)


def echoes(table: Table, rows: Sequence[Row]) -> Iterator[tuple[Place, str]]:
    """Leaves of structures that always hold what a column of their own row does, such as the row's own key; and that
    column."""
    for column in table.stored:
        texts = [(row, str(row[column])) for row in rows[:_VALUES] if isinstance(row[column], str)
                 and str(row[column])[:1] in ("{", "[", "a", "O")]
        alike: dict[Place, set[str]] = {}
        seen: dict[Place, set[int]] = {}
        for row, text in texts:
            for path, leaf in structures.all_leaves(text):
                value = number(leaf)
                if value is not None:
                    place = Place(table.name, column).at(path)
                    same = {c for c in table.stored if c != column and number(row[c]) == value}
                    alike[place] = alike.get(place, same) & same
                    seen.setdefault(place, set()).add(value)
        for place, columns in alike.items():
            if len(seen[place]) >= _ECHOES:
                yield from ((place, c) for c in sorted(columns))


def called(place: Place) -> str:
    """The name that says what a place holds: of its key, or, where that says no more than that it is a number, of the
    kind of the object that it is in, or of what is around that."""
    steps = [s for s in place.path if s[:1] != "*"]
    if not steps:
        return place.where[0][1].lstrip("_") if place.where else place.column
    key, _, kind = steps[-1].lstrip("@").partition("@")
    kind = kind.rpartition("=")[2]
    if set(words.words(key)) <= _PLAIN:
        around = kind or (steps[-2].partition("@")[0] if len(steps) > 1 else "")
        return f"{around} id" if around else key
    return key


class Judge:
    """Judges places by the tables that there are."""

    def __init__(self, database: Database, tables: Mapping[str, Table], people: Sequence[str],
                 known: Iterable[Reference] = ()) -> None:
        """people: tables of people. known: references, whose names tell of others that are called alike."""
        self.database = database
        self.tables = {n: t for n, t in tables.items() if t.surrogate}
        self.links = {n for n, t in tables.items() if is_link(t)}
        self.bases = {n: base for n, t in tables.items() if (base := base_of(tables, t)) is not None}
        told: dict[tuple[str, ...], set[str]] = {}
        for r in known:
            if r.is_key and r.to in self.tables and words.pointing(r.column):
                told.setdefault(words.pointing(r.column), set()).add(r.to)
        self.told = {name: next(iter(goals)) for name, goals in told.items() if len(goals) == 1}
        self.people = [p for p in people if p in self.tables]

    def judge(self, place: Place, name: str, values: Sampled) -> Finding | None:
        """What a place is; None where nothing speaks for anything."""
        table = self.tables.get(place.table)
        column = table.column(place.column) if table is not None else None
        empty = not values.numbers and (not words.says_id(name) or column is None or _is_text(column.declared))
        if values.other > len(values.numbers) or empty:
            return None
        likely = self._likely(place, name)
        if column is not None and YES_OR_NO.search(column.declared) and not place.path:
            return Finding(place, Certainty.NONE, "", (f"`{name}` is declared as yes or no",))
        if words.says_measure(name) and words.pointing(name) not in self.told and not any(
                words.likeness(name, t, place.table) >= 0.8 for t in self.tables):
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
                best >= (0.95 if share is None else 0.85) and words.says_id(name) and (share is None or share >= 0.5))
            return Finding(place, Certainty.SURE if firm else Certainty.OPEN, held[0], evidence, values.many)
        if held:
            return Finding(place, Certainty.OPEN, "", evidence, values.many)
        return Finding(place, Certainty.OPEN, close[0], evidence, values.many) if words.says_id(name) else None

    def _likely(self, place: Place, name: str) -> list[tuple[float, str]]:
        scores: dict[str, float] = {}
        for called_so, table in (*((t, t) for t in self.tables), *self.bases.items()):
            score = words.likeness(name, called_so, place.table)
            if score >= (1.0 if called_so in self.links else 0.8):
                scores[table] = max(score, scores.get(table, 0))
        alike = self.told.get(words.pointing(name))
        if alike is not None:
            scores[alike] = max(0.9, scores.get(alike, 0))
        found = [(score, table) for table, score in scores.items()]
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


def is_link(table: Table) -> bool:
    """Whether a table only ties rows of others together."""
    pointing = {c for fk in table.foreign_keys for c in fk.columns}
    rest = [c for c in table.stored if c not in pointing and not (table.surrogate and c in table.key)]
    return len(pointing) > 1 and all(set(words.words(c)) <= _ORDERS for c in rest)


def base_of(tables: Mapping[str, Table], table: Table) -> str | None:
    """The table whose rows another's continue, one each: its own key is theirs. None where there is none."""
    seen = {table.name}
    while not table.surrogate:
        fk = next((fk for fk in table.foreign_keys if fk.columns == table.key and fk.target in tables), None)
        if fk is None or fk.target in seen:
            return None
        table = tables[fk.target]
        seen.add(table.name)
    return table.name if len(seen) > 1 else None


def spread(values: Sequence[int], most: int) -> list[int]:
    """Some of these values, from all over."""
    every = sorted(values)
    return every if len(every) <= most else [every[n * len(every) // most] for n in range(most)]
