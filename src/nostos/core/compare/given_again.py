"""Keys that were given out again: the row under an old key is another thing.

Every engine can give a key out twice: SQLite does where a table does not count on, all of them after a table was
emptied. A row under an old key is the old row only if something says so: the engine itself, which cannot have given the
key out again; what the row is called; or most of what it holds. In doubt it is a removal and a birth, never an edit.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import cached_property
from typing import Any

from nostos.core.anchor.names import CanonicalName, Keys, Origin, Side, canonical, of_anchor
from nostos.core.anchor.rows import RowMove
from nostos.core.compare.portable import Translator
from nostos.core.compare.sides import Moves, Sides
from nostos.core.database.schema import Row, Table
from nostos.core.profiles.model import Profile

_LOOKED_AT = (64, 4096, 262144)  # rows from a table's end, in search of one that is as it was
_APART = 0.7  # which part of a column's values are different, where they tell rows apart
_SOME = 3  # rows
_LEAST = 2  # columns that have to be others: one alone may always be edited


def take_apart(sides: Sides, moves: Moves) -> None:
    """Make a removal and a birth of every edit that may be none, in moves."""
    for side in Side:
        for name, every in moves[side].items():
            table = sides.tables[side].get(name)
            if table is not None and table.surrogate:
                moves[side][name] = list(_GivenAgain(sides, side, table).apart(every))


def are_two(profile: Profile, table: Table, rows: Mapping[Side, Row], translators: Mapping[Side, Translator]) -> bool:
    """Whether rows that both sides gained under one number, which no database gave out, are two things: nothing that
    names them is the same, nor most of what they hold. A key that says something, or is another row's, is a name."""
    if table.surrogate or len(table.key) != 1 or not all(isinstance(r.get(table.key[0]), int) for r in rows.values()):
        return False
    if any(table.key[0] in fk.columns for fk in table.foreign_keys):
        return False
    full = {s: translators[s].full(table.name, row) for s, row in rows.items()}
    columns = [c for c in rows[Side.LIVE] if c in rows[Side.STAGING] and c not in table.key]
    values = {c: [translators[s].value(table.name, full[s], c) for s in Side] for c in columns}
    alike = {c for c, (one, other) in values.items() if one == other}
    kind = profile.kind_of(table.name, full[Side.LIVE])
    naming = [] if kind is None else [c for c in (kind.title, *kind.label, *kind.identity) if c in values]
    unique = [c for columns in table.uniques if columns != table.key for c in columns if c in values]
    if any(c in alike and rows[Side.LIVE][c] not in (None, "", 0) for c in (*naming, *unique)):
        return False
    return len(alike) * 2 <= len(columns) and bool(columns)


def is_another(profile: Profile, table: str, old: Row, new: Row) -> bool:
    """Whether what never changes in a row's life, where its kind has that, is not what it was."""
    kind = profile.kind_of(table, new)
    return kind is not None and kind.born is not None and old.get(kind.born) != new.get(kind.born)


def split(keys: Keys, side: Side, table: str, move: RowMove) -> Iterator[RowMove]:
    """An edit as a removal and a birth."""
    yield RowMove(move.key, None, born=False)
    keys.claim(table, move.key[0], canonical(Origin.born(side), move.key[0]))
    yield RowMove(move.key, move.row, born=True, digest=move.digest)


class _GivenAgain:
    """The keys of one table on one side."""

    def __init__(self, sides: Sides, side: Side, table: Table) -> None:
        self.profile, self.anchor, self.side, self.table = sides.profile, sides.anchor, side, table
        self.database, self.translator, self.base = sides.databases[side], sides.translators[side], sides.base
        self.mask = sides.mask
        self._old: list[Row] = []  # what the rows that moved were

    @cached_property
    def _telling(self) -> frozenset[str]:
        """Columns of texts that are nearly all different, as far as rows were looked at: they tell rows apart."""
        if self.side is Side.STAGING:
            return frozenset()
        rows = [*self._old[:_LOOKED_AT[0]], *self.database.end(self.table, _LOOKED_AT[0], True)]
        names = set()
        for column in self._old[0]:
            values = [row[column] for row in rows if isinstance(row.get(column), str) and row[column]]
            if column not in self.table.key and values and len({*values}) >= _APART * len(values):
                names.add(column)
        return frozenset(names)

    def apart(self, moves: list[RowMove]) -> Iterator[RowMove]:
        """The moves of the table, with a removal and a birth for each edit whose key was given out again."""
        before = [self._before(move) for move in moves]
        self._old = [old for old in before if old is not None]
        unlike = [old is not None and move.row is not None and self._is_unlike(old, move.row)
                  for move, old in zip(moves, before, strict=True)]
        if not any(unlike):
            yield from moves
            return
        # Of an edited row that is what it was, the key was not given out again, nor any below it since.
        left = max((int(str(m.key[0])) for m, old, other in zip(moves, before, unlike, strict=True)
                    if old is not None and not other), default=0)
        left = max(left, self._left_over({m.key[0] for m in moves}))
        others = [m.row for m, other in zip(moves, unlike, strict=True) if other and m.row is not None]
        # Of the one row of a table, or of two, an editor may well write all anew.
        few = len(others) < _SOME and not any(map(self._is_visitors, others))
        keeps_count = (bool(left) or few) and self.database.counter(self.table) is not None
        for move, other in zip(moves, unlike, strict=True):
            # An engine counts on from the highest key that there is, or from the highest that ever was.
            if other and not keeps_count and int(str(move.key[0])) > left:
                yield from split(self.translator.keys, self.side, self.table.name, move)
            else:
                yield move

    def _before(self, move: RowMove) -> Row | None:
        """The ancestor of a row that is there still; None for every other."""
        if move.born or move.row is None or not isinstance(move.key[0], int):
            return None
        name = self.translator.keys.name(self.table.name, move.key[0])
        if CanonicalName.parse(name).origin is Origin.GUARDS:
            return None
        known = of_anchor(name)
        return self.anchor.base_row(self.table.name, (known,)) if known is not None else None

    def _is_unlike(self, old: Row, new: Row) -> bool:
        """Whether neither what names a row nor most of what it holds is what it was."""
        table = self.table.name
        columns = [c for c in old if c in new and c not in self.table.key and not self._is_made_up(old, c)]
        unlike = {c for c in columns if old[c] != new[c]}
        most = len(unlike) * 2 >= len(columns)
        if not most and not any(isinstance(old[c], str) or isinstance(new[c], str) for c in unlike):
            return False  # most rows that moved: what follows costs more
        before, after = self.base.full(table, old), self.translator.full(table, new)
        kind = self.profile.kind_of(table, after)
        if kind is not None and kind.born is not None:
            return False  # told apart by that already
        # In what visitors make, nothing but their own words tells one from another: counts and states are often alike.
        theirs = kind is not None and self.profile.is_visitors(kind.named(new))
        words = self._telling & {*columns} if theirs else frozenset()
        if not most and not (words and words <= unlike):
            return False
        unlike = {c for c in unlike if self._said(self.base, before, c) != self._said(self.translator, after, c)}
        naming = [] if kind is None else [c for c in (kind.title, *kind.label, *kind.identity) if c in columns]
        if any(c not in unlike and old[c] not in (None, "", 0) for c in naming):
            return False
        return bool(words and words <= unlike) or (len(unlike) >= _LEAST and len(unlike) * 2 >= len(columns))

    def _is_visitors(self, row: Row) -> bool:
        kind = self.profile.kind_of(self.table.name, self.translator.full(self.table.name, row))
        return kind is not None and self.profile.is_visitors(kind.named(row))

    def _said(self, translator: Translator, row: Row, column: str) -> Any:
        return translator.value(self.table.name, row, column)

    def _is_made_up(self, old: Row, column: str) -> bool:
        return self.side is Side.STAGING and self.mask is not None and column in self.mask.columns(self.table.name, old)

    def _left_over(self, moved: set[Any]) -> int:
        """The highest key of a row that is as it was; 0 where none is found."""
        for some in _LOOKED_AT:
            rows = self.database.end(self.table, some, True)
            for row in rows:
                key = self.table.key_of(row)[0]
                if key not in moved and isinstance(key, int) and self.anchor.has(self.side, self.table.name, key):
                    return key
            if len(rows) < some:
                break
        return 0
