"""What live has that refers to what is to be removed."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from functools import cached_property

from nostos.core.anchor.names import RowName
from nostos.core.compare.items import Comparison, Item
from nostos.core.compare.nesting import rows_of
from nostos.core.compare.portable import Unresolved, ValueWriter, named_rows, number_by
from nostos.core.compare.row_states import Rows, side_key
from nostos.core.database.protocol import Database
from nostos.core.database.schema import ForeignKey, Row, Table, Value
from nostos.core.patterns import matches
from nostos.core.plan.row_writes import WriteAction, row_writes
from nostos.core.profiles.conditions import Where, holds, plain_values
from nostos.core.profiles.parts import Reference
from nostos.core.profiles.row_trees import parents
from nostos.core.values.literals import needed

_NUMBERS = ("int", "float")  # kinds of columns that hold no text to look in


class Referrers:
    """What live has that refers to what is to be removed. items: whose removals are looked at (None: of all that can go
    home). tops: look, where no index leads, only at rows with higher keys than these."""

    def __init__(self, comparison: Comparison, target_db: Database, items: Sequence[Item] | None = None,
                 tops: Mapping[str, int] | None = None) -> None:
        self.comparison = comparison
        self.tops = tops
        wanted = items if items is not None else [i for i in comparison.items.values() if i.goes_home]
        self.items = wanted
        self.removed = {w.state.id: w.state for i in wanted for w in row_writes(comparison.rows, i)
                        if w.action is WriteAction.REMOVE}
        self._found: dict[RowName, list[RowName]] | None = None
        self._newer: dict[str, list[Row]] = {}
        self._taken: dict[tuple[str, tuple[str, ...]], dict[tuple[Value, ...], list[Row]]] = {}
        self.rows: Rows = comparison.rows
        self.target_db = target_db
        self.translator = self.rows.to_portable[self.rows.target].on(target_db)
        self._target_number = number_by(self.rows.target_keys)
        self.writer = ValueWriter(self.rows.target_urls, self._target_number, self.rows.target_prefix,
                                  self._target_above)

    def _target_above(self, table: str, column: str, name: str) -> str:
        """What a value that begins with a live row's takes over from it."""
        target_table = self.rows.target_tables.get(table)
        row = self.target_db.fetch(target_table, (self._target_number(table, name),
                                                  )) if target_table is not None else None
        if row is None:
            raise Unresolved(table, name)
        return str(row[column])

    @property
    def unindexed(self) -> set[str]:
        """The tables in which rows that point at what is removed are not to be found by an index."""
        return {at.name for r, at in self._pointing() if not self._by_index(r, at)} | {
            at.name for at, fk, _ in self._declared() if not at.indexed(fk.columns[0])}

    def _pointing(self) -> Iterator[tuple[Reference, Table]]:
        gone = {s.table for s in self.removed.values()}
        for r in self.rows.profile.references:
            at = self.rows.target_tables.get(r.table)
            column = at.column(r.column) if at is not None and at.key and r.to in gone else None
            if at is not None and column is not None and not r.outlives and not (
                    (r.path or r.pattern) and column.kind in _NUMBERS):
                yield r, at

    def _declared(self) -> Iterator[tuple[Table, ForeignKey, Table]]:
        """The declared keys that lead to what is removed and are no references: by composite or natural keys, and from
        tables without a key, whose rows are not compared: the database might remove them along with it."""
        gone = {s.table for s in self.removed.values()}
        for table in self.rows.target_tables.values():
            for fk, goal in self._keyed(table.name) if table.key else ():
                if goal.name in gone:
                    yield table, fk, goal
        for table in self._keyless:
            for fk in table.foreign_keys:
                if fk.target in gone:
                    yield table, fk, self.rows.target_tables[fk.target]

    def _keyed(self, table: str) -> Iterator[tuple[ForeignKey, Table]]:
        """The declared keys of a table that lead to rows by natural or composite keys."""
        for fk in self.rows.table(table).foreign_keys:
            if fk.target in self.rows.target_tables or fk.target in self.rows.source_tables:
                target = self.rows.table(fk.target)
                if not target.surrogate and target.key and set(target.key) <= set(fk.target_columns):
                    yield fk, target

    @cached_property
    def _keyless(self) -> list[Table]:
        return [t for t in self.target_db.tables().values() if not t.key
                and not matches(t.name, self.rows.profile.volatile)] if self.removed else []

    @staticmethod
    def _by_index(r: Reference, at: Table) -> bool:
        return at.indexed(r.column) and not (r.path or r.pattern)

    def referrers(self) -> dict[RowName, list[RowName]]:
        """The live rows that point at each row which is to be removed; found in one pass for each kind of reference.
        """
        if self._found is not None:
            return self._found
        referrers: dict[RowName, list[RowName]] = {}
        for table, fk, goal in self._declared():
            self._by_declared_key(referrers, table, fk, goal)
        texts: dict[tuple[str, str, Where], list[Reference]] = {}
        for r, at in self._pointing():
            if r.by_name:
                self._by_name(referrers, r, at)
            elif r.to_column is None and (r.path or r.pattern):
                texts.setdefault((at.name, r.column, tuple(plain_values(r.where).items())), []).append(r)
            else:
                self._by_reference(referrers, r, at)
        for (name, column, where), some in texts.items():
            self._by_text(referrers, self.rows.target_tables[name], column, where, some)
        self._below(referrers)
        self._found = referrers
        return referrers

    def _candidates(self, at: Table, column: str, values: Sequence[Value], where: Mapping[str, str],
                    numbers: Sequence[int] = (), words: Collection[str] = ()) -> Iterator[Row]:
        """Rows that may point at something. numbers: look for these within the column's text; words: one of which must
        be there, too, or alone."""
        if self.tops is not None and at.name in self.tops and (numbers or words or not at.indexed(column)):
            if at.name not in self._newer:
                self._newer[at.name] = [] if self.tops[at.name] < 0 else list(
                    self.target_db.above(at, self.tops[at.name]))
            return iter(self._newer[at.name])
        if numbers or words:
            return self.target_db.mentioning(at, column, numbers, where, words)
        return self.target_db.find_any(at, column, values, where)

    def _by_declared_key(self, referrers: dict[RowName, list[RowName]], table: Table, fk: ForeignKey,
                         goal: Table) -> None:
        wanted: dict[tuple[object, ...], list[RowName]] = {}
        for name, state in self.removed.items():
            if state.table == goal.name and state.target_raw is not None:
                values = tuple(state.target_raw[t] for t in fk.target_columns)
                wanted.setdefault(values, []).append(name)
        for row in self._candidates(table, fk.columns[0], [v[0] for v in wanted], {}):  # type: ignore[misc]
            for name in wanted.get(tuple(row[c] for c in fk.columns), ()):
                referrers.setdefault(name, []).append(self._named(table, row))

    def _by_reference(self, referrers: dict[RowName, list[RowName]], r: Reference, at: Table) -> None:
        targets = {name: s for name, s in self.removed.items() if s.table == r.to and s.target_raw is not None
                   and s.target_key is not None}
        where = plain_values(r.where)
        translator = self.translator
        if r.to_column is not None:
            by_value: dict[object, list[RowName]] = {}
            for name, s in targets.items():
                by_value.setdefault((s.target_raw or {}).get(r.to_column), []).append(name)
            rows = self._candidates(at, r.column, list(by_value), where)  # type: ignore[arg-type]
        else:
            keys = [s.target_key[0] for s in targets.values() if s.target_key is not None]
            rows = self._candidates(at, r.column, [*keys, *map(str, keys)], where)
        every = list(rows)
        translator.expect(r.table, every)
        for row in every:
            full = translator.full(r.table, row)
            if not holds(r.where, full):
                continue
            if r.to_column is not None:
                hit = by_value.get(row.get(r.column), [])
            else:
                hit = [(t, (n,)) for t, n in named_rows(translator.value(r.table, full, r.column))]
            for name in hit:
                if name in targets:
                    referrers.setdefault(name, []).append(self._named(at, row))

    def _by_name(self, referrers: dict[RowName, list[RowName]], r: Reference, at: Table) -> None:
        """What names inside the values of one column point at."""
        targets = {str(called): name for name, s in self.removed.items() if s.table == r.to
                   and (called := (s.target_raw or {}).get(r.to_column or "")) is not None}
        rows = list(self._candidates(at, r.column, (), plain_values(r.where), words=targets))
        self.translator.expect(r.table, rows)
        for row in rows:
            full = self.translator.full(r.table, row)
            if holds(r.where, full):
                for name in r.names_in(self.translator.value(r.table, full, r.column)):
                    if name in targets:
                        referrers.setdefault(targets[name], []).append(self._named(at, row))

    def _by_text(self, referrers: dict[RowName, list[RowName]], at: Table, column: str, where: Where,
                 references: Sequence[Reference]) -> None:
        """What texts of one column point at, whichever way they do, in one pass."""
        to = {r.to for r in references}
        targets = {name: s for name, s in self.removed.items() if s.table in to and s.target_key is not None}
        numbers = sorted({k for s in targets.values() if s.target_key and isinstance(k := s.target_key[0], int)})
        each = [needed(r.pattern) if r.pattern and not r.path else frozenset() for r in references]
        words = frozenset[str]().union(*each) if all(each) else frozenset()
        translator = self.translator
        rows = list(self._candidates(at, column, (), dict(where), numbers, words)) if numbers else []
        translator.expect(at.name, rows)
        for row in rows:
            full = translator.full(at.name, row)
            for table, name in named_rows(translator.value(at.name, full, column)):
                if (table, (name,)) in targets:
                    referrers.setdefault((table, (name,)), []).append(self._named(at, row))

    def _below(self, referrers: dict[RowName, list[RowName]]) -> None:
        """The rows that paths, or intervals, put below what is removed."""
        for nested in self.rows.profile.nested:
            table = self.rows.target_tables.get(nested.table)
            gone = {s.target_key[0]: name for name, s in self.removed.items()
                    if s.table == nested.table and s.target_key}
            if table is not None and gone and nested.tells:
                up = parents(rows_of(self.target_db, table, nested), table.key[0], nested)
                for key, above in up.items():
                    if above in gone:
                        referrers.setdefault(gone[above], []).append(
                            (table.name, (self.translator.keys.name(table.name, key),)))
        for name, state in self.removed.items():
            tree = self.rows.profile.tree_of(state.table)
            table = self.rows.target_tables.get(state.table)
            if tree is None or not tree.path or table is None or state.target_raw is None:
                continue
            path = str(state.target_raw.get(tree.path) or "")
            for row in self.target_db.beginning(table, tree.path, path) if path else ():
                if tree.above(str(row[tree.path])) == path:
                    referrers.setdefault(name, []).append(self._named(table, row))

    def called(self, name: RowName) -> str:
        """What a live row that did not change is called."""
        if not name[1]:
            return f"a row of {name[0]}, which has no key,"
        table = self.rows.target_tables[name[0]]
        key = side_key(table, name[1], self.translator)
        row = self.target_db.fetch(table, key) if key is not None else None
        kind = self.rows.profile.kind_of(name[0], row) if row is not None else None
        if row is None or kind is None:
            return f"{name[0]} {','.join(map(str, name[1]))}"
        return f"{kind.named(row)}/{','.join(str(row.get(c)) for c in kind.label or table.key)}"

    def _named(self, table: Table, row: Row) -> RowName:
        """The canonical name of a live row."""
        translator = self.translator
        if table.surrogate:
            return table.name, (translator.keys.name(table.name, row[table.key[0]]),)
        return table.name, tuple(translator.value(table.name, row, c) for c in table.key)
