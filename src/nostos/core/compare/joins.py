"""Values of other rows that a row is told apart by."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from copy import copy

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row, Table, Value
from nostos.core.profiles.conditions import holds, plain_values
from nostos.core.profiles.model import Profile
from nostos.core.profiles.parts import Join


class Joins:
    """Finds what rows of one side are joined to. What is gone on that side is looked up on the other; by a number only
    where the anchor knows it, for what is born since has other numbers there. known: whether it does."""

    def __init__(self, profile: Profile, database: Database, tables: Mapping[str, Table], other: Database,
                 known: Callable[[str, Value], bool]) -> None:
        self._joins = {t: [j for j in profile.joins if j.table == t] for t in {j.table for j in profile.joins}}
        self._tables = tables
        self._database, self._other = database, other
        self._is_known = known
        self._known: dict[tuple[object, ...], Value] = {}

    def __call__(self, table: str, row: Row) -> Row:
        return {j.name: self._value(j, row) for j in self._joins.get(table, ())
                if j.source in self._tables and holds(j.only, row)}

    def prefetch(self, table: str, rows: Iterable[Row]) -> None:
        """Look up what many rows are joined to in one pass, for those that will be asked for."""
        joins = [j for j in self._joins.get(table, ()) if j.source in self._tables and len(j.on) == 1]
        rows = list(rows) if joins else ()
        for join in joins:
            (where, other), = join.on
            wanted = {row.get(where) for row in rows if holds(join.only, row)} - {None}
            wanted = {v for v in wanted if (join, v) not in self._known}
            if len(wanted) < 2:
                continue
            source = self._tables[join.source]
            joined = self._found(join, self._database, source, other, wanted)
            lacking = {v for v in wanted if str(v) not in joined and (
                not source.surrogate or other != source.key[0] or self._is_known(join.source, v))}
            if lacking and self._other is not self._database:
                joined |= self._found(join, self._other, source, other, lacking)
            for value in wanted:
                self._known[join, value] = self._onward(join, [r[join.column] for r in joined.get(str(value), ())])

    @staticmethod
    def _found(join: Join, database: Database, source: Table, other: str, wanted: set[Value]) -> dict[str, list[Row]]:
        values: dict[str, list[Row]] = {}
        for row in database.find_any(source, other, sorted(wanted, key=repr), plain_values(join.where)):
            if holds(join.where, row):
                values.setdefault(str(row[other]), []).append(row)
        return values

    def on(self, database: Database) -> Joins:
        """The same, in another connection to the side's database, and nowhere else."""
        twin = copy(self)
        twin._database = twin._other = database
        twin._known = {}
        return twin

    def _value(self, join: Join, row: Row) -> Value:
        where = {other: row.get(value) for value, other in join.on}
        known = (join, *where.values())
        if known not in self._known:
            source = self._tables[join.source]
            matches = [r for r in self._database.find(source, where) if holds(join.where, r)]
            number = where.get(source.key[0]) if source.surrogate else None
            if not matches and (number is None or self._is_known(join.source, number)):
                matches = [r for r in self._other.find(source, where) if holds(join.where, r)]
            self._known[known] = self._onward(join, [r[join.column] for r in matches])
        return self._known[known]

    def _onward(self, join: Join, values: list[Value]) -> Value:
        """The first value that there is at the end of a join's way."""
        for step, column in zip(join.via, join.then, strict=True):
            table = self._tables.get(step.table)
            rows = [r for v in values for r in self._database.find(table, {step.by: v})] if table is not None else []
            values = [r[column] for r in rows if holds(step.where, r)]
        return values[0] if values else None
