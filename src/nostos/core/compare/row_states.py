"""The rows of both sides and of the anchor, as a comparison holds them."""

from __future__ import annotations

import re
from dataclasses import field
from typing import Any, TypeVar

from nostos.core.anchor.names import CanonicalName, Keys, Origin, RowName, Side, canonical, of_anchor, origin_of
from nostos.core.anchor.rows import RowMove
from nostos.core.clone.masking import Mask
from nostos.core.compare.portable import Portable, Translator, Unresolved, ValueWriter, number_by
from nostos.core.database.registry import Engine
from nostos.core.database.schema import Key, Row, Table
from nostos.core.profiles.model import Profile
from nostos.core.records import dataclass
from nostos.core.values.names import Names
from nostos.core.values.urls import UrlForms

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class RowState:
    """A row that is not the same everywhere: its three versions in portable form (None: there is none).

    name: its canonical key. target_raw, source_raw: as the sides have it, with their keys. stale: keys under which a
    side had the row before it was deleted there and made anew.
    """

    table: str
    name: Key
    base: Portable | None
    target: Portable | None
    source: Portable | None
    target_raw: Row | None
    source_raw: Row | None
    moved: frozenset[Side]
    target_key: Key | None
    source_key: Key | None
    stale: tuple[tuple[Side, Key], ...] = ()
    target_digest: bytes | None = None
    source_digest: bytes | None = None
    joined: Row = field(default_factory=dict)  # what it is joined to, for telling its kind
    id: RowName = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "id", (self.table, self.name))

    def version(self) -> Portable:
        """Any version there is, staging's first: for naming things."""
        row = self.source or self.target or self.base
        assert row is not None
        return row


@dataclass
class Rows:
    """All rows that are not the same everywhere, with what is needed to read and write values on either side."""

    profile: Profile
    engine: Engine  # of both sides
    target_tables: dict[str, Table]
    source_tables: dict[str, Table]
    anchor_tables: dict[str, Table]
    states: dict[RowName, RowState]
    target_keys: Keys
    source_keys: Keys
    to_portable: dict[Side, Translator]
    base_translator: Translator
    target_urls: UrlForms
    target_prefix: str = ""
    source_prefix: str = ""
    skipped: list[str] = field(default_factory=list)  # tables without a key
    keep_keys: bool = False  # rows that come back keep the numbers that they had
    mask: Mask | None = None  # how staging's rows are masked, if they are
    names: Names = field(default_factory=Names)  # what is called otherwise on the other side
    writes: dict[str, Any] = field(default_factory=dict)  # what taking an item writes, once it is known
    uncompared: dict[Side, dict[int, set[str]]] = field(default_factory=dict)  # numbers born in what is not compared
    source: Side = Side.STAGING  # the side that is read: live in a refresh
    nowhere: set[str] = field(default_factory=set)  # tables that something is said to point at, where nothing is
    given: dict[str, int] = field(default_factory=dict)  # of these, the highest number that the source has given out
    numbered: dict[str, RowName] = field(default_factory=dict)  # files that lie under the number of a row, by path
    as_numbered: set[str] = field(default_factory=set)  # tables whose new rows keep their numbers, for files have them
    masks: bool = False  # what is written is masked, for it is staging that is written to

    @property
    def target(self) -> Side:
        """The side that is written."""
        return self.source.other

    @property
    def every_table(self) -> frozenset[str]:
        """The names of the tables of both sides."""
        return frozenset((*self.target_tables, *self.source_tables))

    def dropped(self, name: str) -> set[str]:
        """The columns of a table that the anchor knows and one side has no more."""
        sides = [t.get(name) for t in (self.target_tables, self.source_tables)]
        known = self.anchor_tables.get(name)
        return {c for c in known.names if any(t is not None and t.column(c) is None for t in sides)} if known else set()

    def table(self, name: str) -> Table:
        """A table as the target has it; where it has none, as the source does."""
        return self.target_tables.get(name) or self.source_tables[name]


def canonical_key(table: Table, move: RowMove, keys: Keys, translator: Translator) -> Key:
    if move.of_base:
        return (str(move.key[0]),)
    if table.surrogate:
        name = keys.name(table.name, move.key[0])
        if move.row is None and not move.born:
            parsed = CanonicalName.parse(name)
            if parsed.origin in (Origin.STAGING, Origin.LIVE) and parsed.number == move.key[0]:
                return (str(move.key[0]),)  # the old row of a key that was given out again
        return (name,)
    row = dict(zip(table.key, move.key, strict=True))
    return tuple(translator.value(table.name, row, c) for c in table.key)


def twin_name(name: Key) -> Key:
    """The name of what staging gained under a number that live gave to another thing, where no database gives keys."""
    return (canonical(Origin.STAGING, name[0]),)


def is_twin(table: Table, name: Key) -> bool:
    """Whether a name is one of `twin_name`."""
    if table.surrogate or len(name) != 1 or not isinstance(name[0], str):
        return False
    column = table.column(table.key[0])
    number = column is not None and (column.kind == "int" or re.search(r"(?i)int", column.declared))
    return bool(number) and origin_of(name[0]) is Origin.STAGING


def side_key(table: Table, name: Key, side: Translator) -> Key | None:
    """A side's raw key for a canonical one; None when it rests on a row that the side does not have."""
    keys = side.keys
    if table.surrogate:
        key = keys.key(table.name, str(name[0]))
        return None if key is None else (key,)

    try:
        return tuple(ValueWriter(side.urls, number_by(keys)).value(v) for v in name)
    except Unresolved:
        return None


def base_key(table: Table, name: Key, base: Translator) -> Key | None:
    """The key under which the anchor holds the ancestor of a row."""
    if table.surrogate:
        known = of_anchor(name[0])
        return None if known is None else (known,)
    return side_key(table, name, base)
