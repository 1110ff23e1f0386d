"""What must be true when a plan is carried out, as data: printed with it, kept in its journal, asked under the lock.

A plan is made from what live was when it was compared. Between that and the commit live goes on. So each operation says
what it rests on, and `apply/verify.py` asks for it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from nostos.core.anchor.names import Origin, origin_of
from nostos.core.compare.items import SchemaAction
from nostos.core.compare.portable import Unresolved, ValueWriter, named_rows, number_by
from nostos.core.compare.row_states import Rows
from nostos.core.database.schema import Key, Row, Value
from nostos.core.files.entry import FileEntry
from nostos.core.records import dataclass
from nostos.core.values.structures import builtins


@dataclass(frozen=True)
class NoTable:
    """The table is not there yet."""

    item: str
    table: str


@dataclass(frozen=True)
class NoColumn:
    """The column is not there yet."""

    item: str
    table: str
    column: str


@dataclass(frozen=True)
class RowAs:
    """A row is there, is the same one still, and is as it was seen in these columns. before: all of it, as it was seen.
    """

    item: str
    table: str
    key: Key
    columns: tuple[str, ...]
    before: Row


@dataclass(frozen=True)
class RowThere:
    """A row is there that what is written points at."""

    item: str
    table: str
    key: Key


@dataclass(frozen=True)
class NothingPointsAt:
    """No row that stays points at one that is removed."""

    item: str
    table: str
    key: Key


@dataclass(frozen=True)
class NothingAlike:
    """No other row has the value that the system itself lets no two rows share. by: the key of the one that gets it; of
    one that is added, its canonical key."""

    item: str
    table: str
    column: str
    value: Value
    by: Key


@dataclass(frozen=True)
class FileAs:
    """A file is as it was seen; None: it is not there."""

    item: str
    path: str
    entry: FileEntry | None


Condition = NoTable | NoColumn | RowAs | RowThere | NothingPointsAt | NothingAlike | FileAs
_WORDS = {NoTable: "no such table", NoColumn: "no such column", RowAs: "row as it was seen",
          RowThere: "row there that is pointed at", NothingPointsAt: "removed row that nothing points at",
          NothingAlike: "name that nothing else has", FileAs: "file as it was seen"}


def in_words(condition: Condition) -> str:
    """What a condition asks, in words, without the row or file that it asks of."""
    return _WORDS[type(condition)]


def as_data(condition: Condition) -> dict[str, Any]:
    """A condition as JSON-like data, with its kind. Of a row, the columns alone: what they held, its operation says."""
    if isinstance(condition, RowAs):
        return {"condition": "RowAs", "item": condition.item, "table": condition.table,
                "key": builtins(condition.key), "columns": sorted(condition.columns)}
    return {"condition": type(condition).__name__, **builtins(condition)}


def counted(conditions: Iterable[Condition]) -> list[tuple[str, int]]:
    """How many there are of each kind, in words."""
    counts = Counter(type(c) for c in conditions)
    return [(_WORDS[kind], counts[kind]) for kind in _WORDS if counts[kind]]


def of_schema(item: str, action: SchemaAction, what: str, table: str, name: str) -> Iterator[Condition]:
    """What a schema step rests on."""
    if action is SchemaAction.ADD and what == "table":
        yield NoTable(item, table)
    elif action is SchemaAction.ADD and what == "column":
        yield NoColumn(item, table, name)


def as_seen(rows: Rows, item: str, table: str, key: Key, before: Row, columns: Iterable[str]) -> RowAs:
    """A row in the columns that are replaced, but for those that follow from others."""
    derived = {d.column for d in rows.profile.derived if d.table == table}
    return RowAs(item, table, key, tuple(c for c in columns if c in before and c not in derived), before)


def pointed_at(rows: Rows, item: str, table: str, values: Mapping[str, Any]) -> Iterator[RowThere]:
    """The target's rows that values cannot be without: those that are there as it was compared."""
    for column, value in values.items():
        if rows.profile.is_weak(table, column):
            continue
        for target, name in named_rows(value):
            state = rows.states.get((target, (name,)))
            key = rows.target_keys.key(target, name) if origin_of(name) not in (None, Origin.NOWHERE) else None
            if key is not None and (state is None or state.target is not None) and target in rows.target_tables:
                yield RowThere(item, target, (key,))


def named_alone(rows: Rows, item: str, table: str, by: Key, values: Mapping[str, Any]) -> Iterator[NothingAlike]:
    """The names of a row that only the system, not its database, keeps from being given twice."""
    target = rows.target_tables.get(table)
    for owner, column in rows.profile.uniques:
        if owner == table and column in values and target is not None and target.indexed(column):
            writer = ValueWriter(rows.target_urls, number_by(rows.target_keys), rows.target_prefix)
            try:
                value = writer.value(values[column])
            except Unresolved:
                continue  # it is made of what is born with it
            if value not in (None, ""):
                yield NothingAlike(item, table, column, value, by)
