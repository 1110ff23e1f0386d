"""The places of a table where numbers stand, and what is seen there."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import field

from nostos.core.database.schema import Row, Table, Value
from nostos.core.profiles.parts import Join
from nostos.core.profiles.places import Place
from nostos.core.records import dataclass
from nostos.core.values import located, shapes, words

ROWS = 2000  # of a table, that are looked at
KINDS = 40  # values of a discriminating column
_LOOKED_UP = 150  # numbers of a place
_TEXTS = 300  # texts of a column that are looked into
_SHAPES = 200  # places within the texts of a column
_KEYS = 600  # of a table of keys and values
_WIDEST = 7  # columns of a table of keys and values
_LOOKED_AT = 300  # rows in which places are looked for that repeat a column
_ECHOES = 3  # different values, from which on it is no chance that a place repeats a column
_TYPES = frozenset({"type", "kind", "model", "class"})
_THINGS = frozenset({"object", "item", "entity", "record", "target", "subject", "owner", "related", "content", "base"})
_PLAIN = frozenset({"id", "pk", "value", "ref", "key", "object", "target", "item", "data", "content", "uid"})
_ORDERS = frozenset({"sort", "order", "position", "pos", "rank", "ordering", "sequence", "weight", "id"})


@dataclass
class Held:
    """What is seen at a place. numbers: those that may be rows', and how often each. other: how many values are none.
    many: whether lists of them were seen."""

    numbers: dict[int, int] = field(default_factory=dict)
    other: int = 0
    many: bool = False

    @property
    def some(self) -> list[int]:
        """The numbers, in order; of very many, some from all over."""
        every = sorted(self.numbers)
        return every if len(every) <= _LOOKED_UP else [every[n * len(every) // _LOOKED_UP] for n in range(_LOOKED_UP)]

    def add(self, values: Iterable[int]) -> None:
        """Take down the numbers that one row holds in this place."""
        some = list(values)
        self.many = self.many or len(some) > 1
        for number in some:
            self.numbers[number] = self.numbers.get(number, 0) + 1


def held(values: Iterable[Value]) -> Held:
    """What whole values are: numbers, or lists of them; nothing (NULL, 0, an empty text) says nothing."""
    held = Held()
    for value in values:
        if value is None or value in (0, "", "0"):
            continue
        here = [n for path, n in located.numbers(value) if not path] if isinstance(value, int | str) else []
        if here:
            held.add(here)
        else:
            held.other += 1
    return held


def key_columns(table: Table) -> tuple[str, str] | None:
    """The columns of a table of keys and values: what the value is called, and the value; None where it is none."""
    if len(table.columns) > _WIDEST:
        return None
    texts = [c.name for c in table.columns if is_text(c.declared) and not c.generated]
    value = next((c for c in texts if words.words(c)[-1:] in (("value",), ("data",), ("content",), ("val",))), None)
    key = next((c for c in texts if c != value and words.words(c)[-1:] in (
        ("key",), ("name",), ("field",), ("option",), ("attribute",), ("property",), ("code",))), None)
    return (key, value) if key and value else None


def is_text(declared: str) -> bool:
    """Whether a declared type holds texts."""
    return bool(re.search(r"(?i)char|text|json|clob|^$", declared))


def places(table: Table, rows: Sequence[Row], titles: Mapping[str, Mapping[str, str]] | None = None
           ) -> Iterator[tuple[Place, str, Held]]:
    """Every place of a table where a number may stand, with the name that says what it is, and what is seen there.
    titles: what the rows of tables of types are called, by the column that points at them."""
    pair = key_columns(table)
    keys = set(table.key) if table.surrogate else set()
    for column in table.stored:
        if column in keys or (pair and column == pair[1]):
            continue
        values = [row[column] for row in rows]
        kinds = discriminators(table, column)
        for kind in kinds:
            for value, name in named_kinds(table, kind, rows, titles or {}).items():
                yield Place(table.name, column, ((kind, value),)), f"{name} id", held(
                    row[column] for row in rows if str(row[kind]) == value)
        if not kinds:  # else only each kind says what it holds
            yield Place(table.name, column), column, held(values)
        yield from _inside(Place(table.name, column), values)
    if pair:
        by_key: dict[str, list[Value]] = {}
        for row in rows:
            if isinstance(row[pair[0]], str):
                by_key.setdefault(str(row[pair[0]]), []).append(row[pair[1]])
        yield from _beside(table, pair, rows)
        for name in sorted(by_key, key=lambda k: -len(by_key[k]))[:_KEYS]:
            if re.search(r"[*?\[]", name) is None:
                place = Place(table.name, pair[1], ((pair[0], name),))
                yield place, name, held(by_key[name])
                yield from _inside(place, by_key[name])


def _inside(place: Place, values: Sequence[Value]) -> Iterator[tuple[Place, str, Held]]:
    """Places inside values: leaves and keys of structures, numbers in texts by the shape around them."""
    held: dict[Place, Held] = {}
    for value in [v for v in values if isinstance(v, str) and len(v) > 1][:_TEXTS]:
        here: dict[Place, list[int]] = {}
        for path, number in located.numbers(value):
            if path:
                here.setdefault(place.at(path), []).append(number)
        for at, some in here.items():
            if at in held or len(held) < _SHAPES:
                held.setdefault(at, Held()).add(some)
    for at, seen in held.items():
        yield at, called(at), seen


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
            name_words = set(words.words(other))
            if other != key and name_words & (_TYPES | _THINGS) and not words.says_id(other) and head and (
                    name_words - _TYPES - _THINGS == head):
                yield Join(table.name, f"beside {key}: {other}", table.name, ((owner, owner),), pair[1],
                           ((pair[0], other),), ((pair[0], key),))


def _beside(table: Table, pair: tuple[str, str], rows: Sequence[Row]) -> Iterator[tuple[Place, str, Held]]:
    """The numbers under keys, by what another key of the same owner says of them."""
    for join in siblings(table, rows):
        owner, key = join.on[0][0], join.only[0][1]
        says = {row[owner]: str(row[pair[1]]) for row in rows if row[pair[0]] == join.where[0][1]}
        by_kind: dict[str, list[Value]] = {}
        for row in rows:
            if row[pair[0]] == key and row[owner] in says:
                by_kind.setdefault(says[row[owner]], []).append(row[pair[1]])
        for kind, values in by_kind.items() if len(by_kind) <= KINDS else ():
            if re.fullmatch(r"[\w-]+", kind):
                yield Place(table.name, pair[1], ((pair[0], key), (join.name, kind))), f"{kind} id", held(values)


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


def kind_said(value: str) -> str:
    """What a value of a discriminating column says, without what it is in (`App\\Tour`, `app.Tour`)."""
    return value.rpartition("\\")[2].rpartition(".")[2].rpartition(":")[2]


def named_kinds(table: Table, column: str, rows: Sequence[Row], titles: Mapping[str, Mapping[str, str]]) -> dict[str,
                                                                                                                 str]:
    """What the values of a discriminating column mean, as names. titles: of the rows of tables of types, by column."""
    values = {str(row[column]) for row in rows if row.get(column) not in (None, "")}
    title = titles.get(f"{table.name}.{column}", {})
    return {v: title.get(v, kind_said(v)) for v in values} if len(values) <= KINDS else {}


def called(place: Place) -> str:
    """The name that says what a place holds: of its key, or, where that says no more than that it is a number, of the
    kind of the object that it is in, or of what is around that."""
    steps = [s for s in place.path if s[:1] not in ("*", "=")]
    if not steps:
        return place.where[0][1].lstrip("_") if place.where else place.column
    if steps[-1][:1] in ("~", "{"):
        word = shapes.word(steps[-1])
        outside = next(iter(around(place)), place.column)
        return f"{word or outside} id"
    key, _, kind = steps[-1].lstrip("@").partition("@")
    kind = kind.rpartition("=")[2]
    if set(words.words(key)) <= _PLAIN:
        outside = kind or next(iter(around(place)), "")
        return f"{outside} id" if outside else key
    return key


def around(place: Place) -> list[str]:
    """What the structures that a place is in are called, from inside; last, the key that they are kept under."""
    steps = [s.partition("@")[0] for s in place.path[:-1] if s[:1] not in ("*", "@", "~", "{", "=")]
    return [*reversed(steps), *([place.where[0][1]] if place.where else ())]


def echoes(table: Table, rows: Sequence[Row]) -> Iterator[tuple[Place, str, float]]:
    """Places that always hold what a column of their own row does, such as the row's own key; that column; and the bits
    that this is worth. A place is inside a text or structure, or, for rows of one kind, a text as a whole."""
    types = [c for c in table.stored if set(words.words(c)[-1:]) & _TYPES]
    alike: dict[Place, set[str]] = {}
    seen: dict[Place, list[int]] = {}
    for row in [*rows[::len(rows) // _LOOKED_AT + 1], *rows[-_LOOKED_AT // 2:]]:
        numbers = {c: n for c in table.stored for path, n in (located.numbers(row[c]) if isinstance(
            row[c], int) or (isinstance(row[c], str) and len(str(row[c])) < 20) else ()) if not path}
        for column in table.stored:
            if not isinstance(row[column], str):
                continue
            for path, value in located.numbers(row[column]):
                kinds = [((kind, str(row[kind])),) for kind in types] if not path or path == (shapes.HEAD,) else [()]
                for place in (Place(table.name, column, kind).at(path) for kind in kinds):
                    same = {c for c, n in numbers.items() if c != column and n == value}
                    alike[place] = alike.get(place, same) & same
                    seen.setdefault(place, []).append(value)
    for place, columns in alike.items():
        if len({*seen[place]}) >= _ECHOES:
            yield from ((place, c, _no_chance(seen[place], c in table.key)) for c in sorted(columns))


def _no_chance(values: Sequence[int], given_out: bool) -> float:
    """How unlikely it is, in bits, that numbers are those of a column by chance. given_out: the column is the row's own
    key: whatever counts up from row to row, as a rank does, is the same as long as no number was left out."""
    different = {*values}
    if not given_out:
        return len(values) * math.log2(len(different))
    span = max(different) - min(different) + 1
    return math.log2(min(different)) + (len(different) - 1) * math.log2(span / len(different))


def is_link(table: Table, points: Callable[[str], bool] = lambda _: False) -> bool:
    """Whether a table only ties rows of others together. points: says of a column, by its name, that it points too."""
    pointing = {c for fk in table.foreign_keys for c in fk.columns} | {
        c for c in table.stored if c not in table.key and points(c)}
    rest = [c for c in table.stored if c not in pointing and not (table.surrogate and c in table.key)]
    return len(pointing) > 1 and all(set(words.words(c)) <= _ORDERS for c in rest)
