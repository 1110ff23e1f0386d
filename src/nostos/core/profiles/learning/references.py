"""Which columns, keys and leaves point at which tables: by names, by values, by what stands beside them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row, Table, Value
from nostos.core.profiles.learning import markup, words
from nostos.core.profiles.learning.findings import Certainty, Finding
from nostos.core.profiles.learning.kinds import Kinds
from nostos.core.profiles.model import Join, Reference
from nostos.core.profiles.places import Place
from nostos.core.values import structures

ROWS = 2000  # of a table, that are looked at
_VALUES = 150  # of a place, that are looked up
_KINDS = 40  # values of a discriminating column
_TYPES = frozenset({"type", "kind", "model", "class"})
_THINGS = frozenset({"object", "item", "entity", "record", "target", "subject", "owner", "related", "content", "base"})
_PLAIN = frozenset({"id", "pk", "value", "ref", "key", "object", "target", "item", "data", "content", "uid"})
YES_OR_NO = re.compile(r"(?i)bool|^tinyint\(1\)|^bit")  # types of columns
MARKUP = re.compile(r"[<\[?]")  # what a text has that may be looked at as markup
_WIDEST = 7  # columns of a table of keys and values
_LOOKED_AT = 300  # rows in which places are looked for that repeat a column
_MANY = 20  # values, from which on it tells something that one table alone has them all
_ORDERS = frozenset({"sort", "order", "position", "pos", "rank", "ordering", "sequence", "weight", "id"})
_ECHOES = 3  # different values, from which on it is no chance that a leaf repeats a column
_KEYS = 600  # of a table of keys and values
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
    if len(table.columns) > _WIDEST:
        return None
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
        yield from _beside(table, pair, rows)
        common = sorted(by_key, key=lambda k: -len(by_key[k]))[:_KEYS]
        for name in common:
            if re.search(r"\d|[*?\[]", name) is None:
                place = Place(table.name, pair[1], ((pair[0], name),))
                yield place, name, sampled(by_key[name])
                yield from _leaves(place, by_key[name])


def siblings(table: Table, rows: Sequence[Row]) -> Iterator[Join]:
    """In a table of keys and values: the keys that say, for one and the same owner, what kind of thing the number under
    another key is, such as `entry_type` beside `entry_id`."""
    pair = key_columns(table)
    owner = next((c for c in table.stored if pair and c not in pair and c not in table.key and words.says_id(c)), None)
    if pair is None or owner is None:
        return
    keys = {str(row[pair[0]]) for row in rows}
    for key in sorted(keys):
        head = set(words.pointing(key)) - _THINGS
        for other in sorted(keys) if words.says_id(key) else ():
            said = set(words.words(other))
            if other != key and said & (_TYPES | _THINGS) and not words.says_id(other) and head and (
                    said - _TYPES - _THINGS == head):
                yield Join(table.name, f"beside {key}: {other}", table.name, ((owner, owner),), pair[1],
                           ((pair[0], other),), ((pair[0], key),))


def _beside(table: Table, pair: tuple[str, str], rows: Sequence[Row]) -> Iterator[tuple[Place, str, Sampled]]:
    """The numbers under keys, by what another key of the same owner says of them."""
    for join in siblings(table, rows):
        owner, key = join.on[0][0], join.only[0][1]
        says = {row[owner]: str(row[pair[1]]) for row in rows if row[pair[0]] == join.where[0][1]}
        held: dict[str, list[Value]] = {}
        for row in rows:
            if row[pair[0]] == key and row[owner] in says:
                held.setdefault(says[row[owner]], []).append(row[pair[1]])
        for kind, values in held.items() if len(held) <= _KINDS else ():
            if re.fullmatch(r"[\w-]+", kind):
                yield Place(table.name, pair[1], ((pair[0], key), (join.name, kind))), f"{kind} id", sampled(values)


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
        if not isinstance(value, str) or not (structures.may_be_structure(value) or MARKUP.search(value)):
            continue
        for path, leaf in structures.all_leaves(value):
            if path:
                found.setdefault(place.at(path), []).append(leaf)
            for step, held in markup.attributes(leaf) if isinstance(leaf, str) and MARKUP.search(leaf) else ():
                if step != markup.HEAD:
                    found.setdefault(place.at((*path, step)), []).append(held)
    for at, leaves in found.items():
        yield at, called(at), sampled(leaves)


def echoes(table: Table, rows: Sequence[Row]) -> Iterator[tuple[Place, str]]:
    """Places that always hold what a column of their own row does, such as the row's own key; and that column. A place
    is a leaf of a structure, a number in markup, or, for rows of one kind, a text as a whole."""
    types = [c for c in table.stored if set(words.words(c)[-1:]) & _TYPES]
    alike: dict[Place, set[str]] = {}
    seen: dict[Place, set[int]] = {}
    for row in [*rows[::len(rows) // _LOOKED_AT + 1], *rows[-_VALUES:]]:
        held = {c: n for c in table.stored if (n := number(row[c])) is not None}
        for column in table.stored:
            text = row[column]
            if not isinstance(text, str):
                continue
            for place, value in _numbers_of(Place(table.name, column), text, row, types):
                same = {c for c, n in held.items() if c != column and n == value}
                alike[place] = alike.get(place, same) & same
                seen.setdefault(place, set()).add(value)
    for place, columns in alike.items():
        if len(seen[place]) >= _ECHOES:
            yield from ((place, c) for c in sorted(columns))


def _numbers_of(place: Place, text: str, row: Row, types: Sequence[str]) -> Iterator[tuple[Place, int]]:
    """The single numbers in a text, by their places; where it is one as a whole, or begins with one, for rows of its
    kind alone."""
    whole = number(text)
    for kind in types:
        said = ((kind, str(row[kind])),)
        if whole is not None:
            yield Place(place.table, place.column, said), whole
        head = next((n for step, n in markup.attributes(text[:40]) if step == markup.HEAD), None)
        if head is not None:
            yield Place(place.table, place.column, said, (markup.HEAD,)), int(head)
    if whole is None and (structures.may_be_structure(text) or MARKUP.search(text)):
        for path, leaf in structures.all_leaves(text):
            value = number(leaf) if path else None
            if value is not None:
                yield place.at(path), value
            for step, found in markup.attributes(leaf) if isinstance(leaf, str) else ():
                value = number(found) if step != markup.HEAD else None
                if value is not None:
                    yield place.at((*path, step)), value


def called(place: Place) -> str:
    """The name that says what a place holds: of its key, or, where that says no more than that it is a number, of the
    kind of the object that it is in, or of what is around that."""
    steps = [s for s in place.path if s[:1] != "*"]
    if not steps:
        return place.where[0][1].lstrip("_") if place.where else place.column
    key, _, kind = steps[-1].lstrip("@").partition("@")
    kind = kind.rpartition("=")[2]
    if set(words.words(key)) <= _PLAIN:
        outside = kind or next(iter(around(place)), "")
        return f"{outside} id" if outside else key
    return key


def around(place: Place) -> list[str]:
    """What the structures that a place is in are called, from inside; last, the key that they are kept under."""
    steps = [s.partition("@")[0] for s in place.path[:-1] if s[:1] not in ("*", "@")]
    return [*reversed(steps), *([place.where[0][1]] if place.where else ())]


class Judge:
    """Judges places by the tables that there are."""

    def __init__(self, database: Database, tables: Mapping[str, Table], people: Sequence[str],
                 known: Iterable[Reference] = (), samples: Mapping[str, Sequence[Row]] | None = None) -> None:
        """people: tables of people. known: references, whose names tell of others that are called alike. samples: rows
        of the tables, as far as they are read already."""
        self.kinds = Kinds(database, {n: t for n, t in tables.items() if t.surrogate or len(t.key) > 1}, samples or {})
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
        if set(values.numbers) == {1} and not words.says_id(name) and (not likely or likely[0][0] < 0.85):
            return None  # as likely a yes as a row's number
        if words.says_measure(name) and words.pointing(name) not in self.told and not any(
                words.likeness(name, t, place.table) >= 0.8 for t in self.tables):
            return Finding(place, Certainty.NONE, "", (f"`{name}` says that it counts, measures or ranks",))
        found = self._named(place, name, values, likely) if likely else None
        if found is None or found.certainty is not Certainty.SURE:
            found = self._by_kind(place, name, values) or found or self._only(place, name, values)
        return found

    def _named(self, place: Place, name: str, values: Sampled, likely: Sequence[tuple[float, str]]) -> Finding | None:
        """What a place is by its name and by whether its values are keys of what that says."""
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
            twin = self._twin(place, held[0]) if words.says_parent(name) else None
            if twin is not None and self._share(twin, values.numbers) in (None, 1.0):
                return Finding(place, Certainty.OPEN, "", (
                    *evidence, f"for {twin}: its rows go with these one by one, and have the same numbers"))
            return Finding(place, Certainty.SURE if firm else Certainty.OPEN, held[0], evidence, values.many)
        if held:
            return Finding(place, Certainty.OPEN, "", evidence, values.many)
        return Finding(place, Certainty.OPEN, close[0], evidence, values.many) if words.says_id(name) else None

    def _twin(self, place: Place, table: str) -> str | None:
        """The table whose rows go one by one with those of a table that points at itself: a parent may be either's."""
        if table != place.table:
            return None
        for other in self.tables.values():
            if other.name != table and other.key[0] in self.tables[table].stored and other.key[0] not in ("id", "ID"):
                return other.name
        return None

    def _by_kind(self, place: Place, name: str, values: Sampled) -> Finding | None:
        some = spread(values.numbers, _VALUES)
        found = {table: why for table in self.tables if (why := self._kind_of(table, place, name, some)) is not None}
        if len(found) != 1:
            return None
        table, why = found.popitem()
        return Finding(place, Certainty.SURE, table, (why,), values.many)

    def _kind_of(self, table: str, place: Place, name: str, some: Sequence[int]) -> str | None:
        for said in dict.fromkeys((name, *around(place))):
            found = self.kinds.only(table, said, some)
            if found is not None:
                return found[1]
        return None

    def _only(self, place: Place, name: str, values: Sampled) -> Finding | None:
        """What a place of numbers is that says no more than that: keys of the only table that has them all."""
        if not words.says_id(name) or len(values.numbers) < _MANY or place.path:
            return None
        some = spread(values.numbers, _VALUES)
        full = [n for n, t in self.tables.items()
                if n != place.table and key_columns(t) is None and self._share(n, some) == 1.0]
        if len(full) != 1 or place.where:
            return None
        return Finding(place, Certainty.SURE, full[0], (
            f"for {full[0]}: all of {len(some)} values are its keys, and no other table's",), values.many)

    def _likely(self, place: Place, name: str) -> list[tuple[float, str]]:
        scores: dict[str, float] = {}
        own = place.path[-1].lstrip("@").partition("@")[0] if place.path else name
        for called_so, table in (*((t, t) for t in self.tables), *self.bases.items()):
            score = max(words.likeness(name, called_so, place.table), words.likeness(own, called_so, place.table))
            if score >= (1.0 if called_so in self.links else 0.8):
                scores[table] = max(score, scores.get(table, 0))
        alike = self.told.get(words.pointing(name))
        if alike is not None:
            scores[alike] = max(0.9, scores.get(alike, 0))
        found = [(score, table) for table, score in scores.items()]
        if not found and words.says_person(name):
            found = [(0.82, table) for table in self.people]
        if not found and words.says_parent(name) and place.table in self.tables:
            owner = self._owner(self.tables[place.table]) if place.where else place.table
            found = [(0.82, owner)] if owner else []
        return sorted(found, key=lambda f: (-f[0], f[1]))

    def _owner(self, table: Table) -> str | None:
        """The table whose rows a table of keys and values tells more of."""
        return next((t for c in table.stored for t in self.tables
                     if t != table.name and words.likeness(c, t, table.name) >= 0.95), None)

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
