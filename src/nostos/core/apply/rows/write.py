"""The database side of a merge: operations carried out inside one transaction that the caller holds."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import nullcontext, suppress
from dataclasses import field
from functools import cached_property, partial
from itertools import groupby
from time import monotonic
from types import MappingProxyType
from typing import Any

from nostos.core.anchor.names import nowhere_number
from nostos.core.apply.rows.ahead import DraftedTable, drafted, may_be_drafted
from nostos.core.apply.rows.changed import RowChange
from nostos.core.apply.rows.jobs import settle_jobs
from nostos.core.apply.rows.loose import LooseRows
from nostos.core.apply.rows.nesting import Nesting
from nostos.core.apply.rows.placing import Placing
from nostos.core.apply.schema import apply_schema
from nostos.core.apply.verify import Verifier
from nostos.core.compare.portable import Portable, Unresolved, ValueWriter, number_by
from nostos.core.compare.row_states import Rows
from nostos.core.database.protocol import AT_ONCE, Database
from nostos.core.database.schema import ForeignKey, Key, Row, Table, Value
from nostos.core.errors import MergeRefused
from nostos.core.plan.conditions import NothingAlike
from nostos.core.plan.operations import InsertRow, Plan, RemoveRow, SchemaOperation, UpdateRow
from nostos.core.records import dataclass
from nostos.core.values import references as refs


@dataclass
class CommitResult:
    """What the transaction did: the live key of every row that staging bore, and the rows as they are now."""

    keys: dict[tuple[str, str], Value] = field(default_factory=dict)
    inserted: dict[tuple[str, Key], Key] = field(default_factory=dict)
    changed: list[RowChange] = field(default_factory=list)
    written: dict[tuple[str, Key], frozenset[str]] = field(default_factory=dict)  # columns that an update set
    moved: set[tuple[str, Key]] = field(default_factory=set)  # rows that went along with what is above them in a tree
    fresh: set[tuple[str, Key]] = field(default_factory=set)  # rows known as they stay before any is locked
    locking: float | None = None  # when the first row was locked that visitors may want; None: at the beginning


def apply_rows(work: RowWork, beforehand: Callable[[CommitResult], None] = lambda _: None) -> CommitResult:
    """Carry out the operations on rows and, where that is part of transactions, on the schema. beforehand: is called
    when what can be written without a visitor's noticing it is written, and nothing is locked; again, where rows turn
    out not to be as they were read.

    Raises TargetMoved when a row is no longer as compared. The caller's transaction takes everything back then.
    """
    work.beforehand = beforehand
    try:
        return work.run()
    except Exception as error:
        explained = work.target_db.explained(error, work.at)
        if explained is None:
            raise
        raise explained from error


_Update = tuple[str, str, Key, Any]  # item, table, key, and the values of some columns


@dataclass(frozen=True)
class _Ready:
    """A row that is about to be inserted. later: portable values that point at rows which are not there yet."""

    operation: InsertRow
    row: Row
    later: Portable
    places: Portable
    up: Any


class RowWork:
    """What a merge does to rows: made and looked ahead with before its transaction, and run within."""

    def __init__(self, plan: Plan, rows: Rows, target_db: Database, tables: dict[str, Table],
                 filled: Mapping[tuple[str, str], Value] = MappingProxyType({}), loose: LooseRows | None = None
                 ) -> None:
        """tables: live's; brought up to what the schema steps make of them. filled: by table and column, what rows have
        got in columns that only one side has, and that may not be empty. loose: takes a note of what no transaction
        covers."""
        self.plan = plan
        self.rows = rows
        self.target_db = target_db
        self.done = CommitResult()
        self.at = ""  # the item that is being written
        self.filled = filled
        self.loose = loose or LooseRows()
        self.beforehand: Callable[[CommitResult], None] = lambda _: None
        self.added: dict[tuple[str, Key], Row] = {}  # rows as they were added to tables without transactions
        self._target_number = number_by(rows.target_keys)
        self.writer = ValueWriter(rows.target_urls, self._number, rows.target_prefix)
        self.tables = tables
        self.verifier = Verifier(plan, target_db, rows.target)
        self.originals: dict[tuple[str, Key], Row] = {}  # rows as they were just before they were touched
        self.placing = Placing(rows.profile, target_db, tables, self._number, self.originals, rows.target)
        self.nesting = Nesting(rows.profile, target_db, tables, self._number, self.originals, self.placing.moved)
        self._given: dict[str, int] = {}  # the last number that was given out here, in the system's place
        self._tops: dict[str, int] = {}  # the newest numbers, before anything was written
        self.touched: dict[tuple[str, Value], None] = {}  # rows whose counters may be off now
        self.drafts: list[DraftedTable] = []
        self.ahead: set[tuple[str, Key]] = set()  # the rows of these
        self._unheld = False  # whether new rows do not hold what they point at by declared keys; that is seen to later

    def _number(self, table: str, name: str) -> Value:
        assigned = self.done.keys.get((table, name))
        if assigned is not None:
            return assigned
        nowhere = nowhere_number(name)
        if nowhere is not None and not self.rows.keep_keys and self._may_lead(table, nowhere):
            return 0
        return self._target_number(table, name)

    def _may_lead(self, table: str, number: int) -> bool:
        """Whether a number that points at nothing any more where it comes from would point at something here, now or
        once that number is given out."""
        target_table = self.tables.get(table)
        if target_table is None or not target_table.surrogate or number > self.rows.given.get(table, 0):
            return False
        if table not in self._tops:
            self._tops[table] = self.target_db.top(target_table) or 0
        return number > self._tops[table] or self.target_db.fetch(target_table, (number,)) is not None

    def _as_nothing(self, table: str, column: str, value: object, written: Value) -> Value:
        """A written value, where it is a number that points at nothing any more: NULL where it may be."""
        named = refs.number(value)
        declared = self.tables[table].column(column)
        if named is None or nowhere_number(named[1]) is None or written not in (0, "0"):
            return written
        return None if declared is not None and declared.nullable else written

    def look_ahead(self) -> None:
        """Before the transaction: work out what hangs on nothing that it finds. Raises TargetMoved where live has moved
        on already."""
        self.drafts = list(drafted(self.plan, self.target_db, self.tables, self.rows.target, may_be_drafted(
            self.plan, self.rows, self.target_db, self.tables), self._values))
        self.ahead = {(d.table, c.key) for d in self.drafts for c in d.changes}

    @cached_property
    def new_first(self) -> bool:
        """Whether what is new may be written before anything is locked, so that visitors wait for less. Not where
        something that goes or changes has to make room for it, nor where it would hold what it points at itself: a
        visitor who did the same just then would be in the way of the lock that follows, and it in theirs."""
        db, profile, changed = self.target_db, self.rows.profile, {
            (o.table, c) for o in self.plan.of(UpdateRow) for c in o.values}
        if not db.locks_late or self.loose.tables or self.plan.of(RemoveRow) or self.plan.of(SchemaOperation):
            return False
        new = {o.table for o in self.plan.of(InsertRow)}
        if db.moves_on:  # what follows from other rows, or acts on them, needs them as they are at one moment
            touched = new | {table for table, _ in changed}
            events = dict.fromkeys(touched, ("INSERT", "UPDATE"))
            if any(d.counts in touched for d in profile.derived) or any(map(profile.placed_in, touched)) or (
                    db.side_effects(events) or db.triggered(events)):
                return False
        alone = {(c.table, c.column) for c in self.plan.about(NothingAlike)}
        alone |= {(name, c) for name in new for columns in self.tables[name].uniques for c in columns}
        held = {table for table, _ in changed} | {d.table for d in profile.derived}
        declared = [(name, fk) for name in new for fk in self.tables[name].foreign_keys]
        self._unheld = db.holds_parents and any(fk.target in held for _, fk in declared)
        return not alone & changed and (not self._unheld or all(self._by_number(name, fk) for name, fk in declared))

    def _by_number(self, name: str, fk: ForeignKey) -> bool:
        """Whether a declared key leads to rows by the numbers that they are known by."""
        target = self.tables.get(fk.target)
        return target is not None and fk.target_columns == target.key and all(
            (of := table.column(c)) is not None and of.kind == "int"
            for table, columns in ((self.tables[name], fk.columns), (target, target.key)) for c in columns)

    def run(self) -> CommitResult:
        """Write every row, inside the caller's transaction, on its connection. Before: nothing is written. What is
        there is locked before it is written, and found to be what the plan saw; what is new may come before that
        (`new_first`), and what was worked out ahead is looked at by its digests. After: all of it is written, counters
        and places in trees are worked out anew, and what the plan rests on was asked for a last time. Nothing of it is
        there until the caller commits; an error leaves all to its roll back, but for tables without transactions, which
        `loose` has noted."""
        if self.target_db.transactional_schema and self.plan.of(SchemaOperation):
            apply_schema(self.plan, self.rows, self.target_db)
            self.tables.clear()
            self.tables.update(self.target_db.tables())
        waiting: list[_Update] = []
        updates: list[_Update] = []
        if self.new_first:
            with self.target_db.unheld_parents() if self._unheld else nullcontext():
                self._point_on(self._insert_all())
            updates = self._updates()
            self._recount(self._counted_ahead())
            self.done.changed = self._fresh()
        room = list(self._room())
        self._known()
        if self.new_first or self.drafts:
            self.beforehand(self.done)
            self.done.locking = None if self.plan.of(RemoveRow) else monotonic()
        lost = self._hold()
        self.originals.update(self.verifier.locked(self.tables, self.ahead))
        self._remove_all()
        self._make_room(room)
        if not self.new_first:
            waiting = self._insert_all()
            updates = self._updates()
        elif lost:
            updates += self._updates(lost)
        self._update_drafted()
        self._update_all(updates)
        self._point_on(waiting)
        self.at = ""
        for place, columns in (*self.placing.settle().items(), *self.nesting.settle().items()):
            self.done.written[place] = self.done.written.get(place, frozenset()) | columns
        self.done.moved = set(self.placing.moved)
        self.verifier.at_the_end(self.tables, {(o.table, o.key) for o in self.plan.of(RemoveRow)}, self.done.inserted)
        self._recount(list(self.touched))
        self.done.changed += self._changed()
        if self.new_first and self._unheld:
            self._see_to_parents()
        settle_jobs(self.rows.profile, self.target_db, self.tables, (
            (c.table, c.key[0], c.before, c.after) for c in self.done.changed))
        return self.done

    def _known(self) -> None:
        """Take what was worked out ahead for what there is, until it is looked at."""
        for d in self.drafts:
            for change in d.changes:
                self.originals[d.table, change.key] = change.before or {}
                self.done.written[d.table, change.key] = d.written[change.key]
                self._counts(d.table, change.before or {})
                self._counts(d.table, change.after or {})
            self.done.changed += d.changes
        self.done.fresh |= self.ahead

    def _hold(self) -> set[tuple[str, Key]]:
        """Hold the rows that were worked out ahead. Returns those of tables where one is not as it was read: they are
        treated like all others."""
        return self._forget([d for d in self.drafts if d.draft.look(hold=True) != d.draft.first])

    def _forget(self, drafts: Collection[DraftedTable]) -> set[tuple[str, Key]]:
        lost = {(d.table, c.key) for d in drafts for c in d.changes}
        if lost:
            self.drafts = [d for d in self.drafts if d not in drafts]
            self.ahead -= lost
            self.done.fresh -= lost
            self.done.changed = [c for c in self.done.changed if (c.table, c.key) not in lost]
            self.beforehand(self.done)
        return lost

    def _update_drafted(self) -> None:
        """Write what was worked out ahead, and see that it is what it was to be."""
        for d in self.drafts:
            try:
                with self.target_db.holding_on():
                    d.draft.write()
            except Exception as error:
                if not self.target_db.refused_a_row(error):
                    raise
                items = {(o.table, o.key): o.item for o in self.plan.of(UpdateRow)}
                self._update_all([(items[d.table, c.key], d.table, c.key, {
                    name: (c.after or {})[name] for name in sorted(d.written[c.key])}) for c in d.changes])
        self._forget([d for d in self.drafts if d.draft.look() != d.left])

    def _updates(self, only: Collection[tuple[str, Key]] | None = None) -> list[_Update]:
        """What is to be written in rows that are there, but for those that were worked out ahead; nothing is asked of
        these rows for it. only: of these rows."""
        updates: list[_Update] = []
        for operation in self.plan.of(UpdateRow):
            place = operation.table, operation.key
            if place in self.ahead or (only is not None and place not in only):
                continue
            values = self._values(operation)
            self._counts(operation.table, {**operation.before, **values})
            self._counts(operation.table, operation.before)
            updates.append((operation.item, *place, values))
            self.done.written[place] = frozenset(values)
        return updates

    def _values(self, operation: UpdateRow) -> Row:
        """What an edit writes, but for places in trees, which wait until all rows are there."""
        self.at = operation.item
        plain, places = self.placing.apart(operation.table, operation.values)
        self.placing.wait(operation.item, operation.table, operation.key, places)
        plain, up = self.nesting.apart(operation.table, plain)
        self.nesting.wait(operation.item, operation.table, operation.key, up)
        plain = self._standing(operation.table, plain)
        row = self._written(operation.item, operation.table, plain)
        return self._masked(operation.table, row, operation.before)

    def _fresh(self) -> list[RowChange]:
        """The new rows that nothing changes any more: that are no counters', in no tree, and reached by no trigger."""
        tables = {name for name, _ in self.done.inserted}
        tables -= {table for table, _ in (*self.placing.waiting, *self.nesting.waiting)}
        touched = dict.fromkeys(self.tables, ("INSERT", "UPDATE", "DELETE"))
        if tables:
            tables -= self.target_db.triggered(touched) | self.target_db.side_effects(touched)
        keys: dict[str, list[Key]] = {}
        for (name, _), key in self.done.inserted.items():
            if name in tables and (name, key[0]) not in self.touched:
                keys.setdefault(name, []).append(key)
                self.done.fresh.add((name, key))
        return [RowChange(name, key, None, row) for name, some in keys.items()
                for key, row in self._as_they_are(name, some)]

    def _as_they_are(self, name: str, keys: list[Key]) -> Iterator[tuple[Key, Row | None]]:
        table = self.tables[name]
        now = {table.key_of(row): row for row in self.target_db.fetch_many(table, keys)}
        return ((key, now.get(key)) for key in keys)

    def _point_on(self, waiting: Iterable[_Update]) -> None:
        """Write what points at rows that were not there yet."""
        second = []
        for item, table, key, values in waiting:
            self.at = item
            second.append((item, table, key, self._written(item, table, values)))
        self._update_all(second)

    def _remove_all(self) -> None:
        def remove(table: Table, part: list[tuple[str, Any]]) -> None:
            with self.target_db.own_clock(table, ()):
                self.target_db.remove_rows(table, [key for _, key in part])

        for name, some in groupby(self.plan.of(RemoveRow), lambda o: o.table):
            operations = list(some)
            for operation in operations:
                self._counts(name, operation.before)
                self.placing.remove(name, operation.before)
            self.loose.note(name, [(o.key, self.originals[name, o.key], None) for o in operations])
            self._some_at_once([(o.item, o.key) for o in operations], partial(remove, self.tables[name]))

    def _insert_all(self) -> list[_Update]:
        """Insert every row, those of one table and with the same columns some at once. Returns what points at rows that
        are not there yet."""
        def insert(table: Table, columns: tuple[str, ...], part: list[tuple[str, Any]]) -> list[Key]:
            with self.target_db.own_clock(table, columns):
                return self.target_db.insert_rows(table, columns, [row for _, row in part])

        waiting: list[_Update] = []
        for name, some in groupby(self.plan.of(InsertRow), lambda o: o.table):
            for _, level in groupby(some, lambda o: o.level):  # those that rest on others come after them
                ready = sorted(map(self._ready, level), key=lambda r: tuple(r.row))
                for columns, alike in groupby(ready, lambda r: tuple(r.row)):
                    rows = list(alike)
                    keys = self._some_at_once([(r.operation.item, tuple(r.row.values())) for r in rows],
                                              partial(insert, self.tables[name], columns))
                    added = list(zip(rows, keys, strict=True)) if name in self.loose.tables else []
                    self.loose.note(name, [(key, None, r.row) for r, key in added])
                    self.added.update(((name, key), r.row) for r, key in added)
                    for one, key in zip(rows, keys, strict=True):
                        waiting += self._inserted(one, key)
        return waiting

    def _update_all(self, updates: list[_Update]) -> None:
        def update(table: Table, columns: tuple[str, ...], part: list[tuple[str, Any]]) -> None:
            with self.target_db.own_clock(table, columns):
                self.target_db.update_rows(table, columns, [row for _, row in part])

        def alike(one: _Update) -> tuple[str, tuple[str, ...]]:
            return one[1], tuple(one[3])

        for (name, columns), these in groupby(sorted(updates, key=alike), alike):
            some = list(these)
            if columns:
                self.loose.note(name, [(key, {c: self._was(name, key).get(c) for c in values}, values)
                                       for _, _, key, values in some])
                self._some_at_once([(item, (key, tuple(values.values()))) for item, _, key, values in some],
                                   partial(update, self.tables[name], columns))

    def _was(self, table: str, key: Key) -> Row:
        """A row as it was before it is updated: also one that this merge has just added."""
        return self.originals.get((table, key)) or self.added.get((table, key)) or {}

    def _some_at_once(self, rows: list[tuple[str, Any]], write: Callable[[list[tuple[str, Any]]], Any]) -> list[Any]:
        """Write rows, each with its item, many in one statement; where one is refused, each by itself, so that it can
        be said which."""
        done: list[Any] = []
        for at in range(0, len(rows), AT_ONCE):
            part = rows[at:at + AT_ONCE]
            self.at = part[0][0]
            if len(part) == 1:
                done += write(part) or ()
                continue
            try:
                with self.target_db.holding_on():
                    done += write(part) or ()
            except Exception as error:
                if not self.target_db.refused_a_row(error):
                    raise
                for one in part:
                    self.at = one[0]
                    done += write([one]) or ()
        return done

    def _changed(self) -> Iterator[RowChange]:
        """Every row that was touched, as it was and as it is now."""
        for operation in self.plan.of(RemoveRow):
            yield RowChange(operation.table, operation.key, self.originals[operation.table, operation.key], None)
        written: dict[str, list[Key]] = {}
        for (name, _), key in self.done.inserted.items():
            if (name, key) not in self.done.fresh:
                written.setdefault(name, []).append(key)
        for operation in self.plan.of(UpdateRow):
            if (operation.table, operation.key) not in self.ahead:
                written.setdefault(operation.table, []).append(operation.key)
        for name, key in self.placing.moved:
            written.setdefault(name, []).append(key)
        for name, keys in written.items():
            for key, row in self._as_they_are(name, keys):
                yield RowChange(name, key, self.originals.get((name, key)), row)

    def _room(self) -> Iterator[tuple[UpdateRow, list[str]]]:
        """Where one row is to have the very values that another, which must not be alike, still has: that other, and
        the columns that it lets go of first."""
        wanted: dict[tuple[object, ...], object] = {}
        for operation in (*self.plan.of(InsertRow), *self.plan.of(UpdateRow)):
            for columns in self.tables[operation.table].uniques:
                before = operation.before if isinstance(operation, UpdateRow) else {}
                if set(columns) & set(operation.values):
                    with suppress(Unresolved):
                        values = [self.writer.value(operation.values[c]) if c in operation.values else before.get(c)
                                  for c in columns]
                        wanted[operation.table, columns, *values] = operation
        for operation in self.plan.of(UpdateRow):
            table = self.tables[operation.table]
            for columns in table.uniques:
                taker = wanted.get((operation.table, columns, *(operation.before.get(c) for c in columns)))
                changed = [c for c in columns if c in operation.values]
                if taker is not None and taker is not operation and changed:
                    yield operation, changed

    def _make_room(self, room: Iterable[tuple[UpdateRow, list[str]]]) -> None:
        for operation, columns in room:
            self._let_go(operation, self.tables[operation.table], columns)

    def _let_go(self, operation: UpdateRow, table: Table, columns: Sequence[str]) -> None:
        for name in columns:
            column = table.column(name)
            assert column is not None
            for value in self.rows.engine.placeholders(column):
                if value is None or not self.target_db.find(table, {name: value}):
                    self.target_db.update(table, operation.key, {name: value})
                    return
        raise MergeRefused(f"{operation.item} is to change places with another in {table.name} ({', '.join(columns)}), "
                           "and there is no value that either could have meanwhile.",
                           next_step=f"Make that change {self.rows.target.where} by hand, then merge.")

    def _written(self, item: str, table: str, values: Any) -> Row:
        try:
            return {c: self._as_nothing(table, c, v, self.writer.value(v)) for c, v in dict(values).items()}
        except Unresolved as missing:
            raise MergeRefused(f"{item} points at {missing.table} {missing.name}, which {self.rows.target} does not "
                               "have.",
                               next_step="Compare again; if it stays so, leave the item out.") from missing

    def _standing(self, table: str, values: Portable) -> Portable:
        """Values without weak references to what the target does not have."""
        return {c: v for c, v in values.items() if not self.rows.profile.is_weak(table, c) or self._resolves(v)}

    def _resolves(self, value: object) -> bool:
        try:
            self.writer.value(value)
        except Unresolved:
            return False
        return True

    def _masked(self, table: str, values: Row, before: Row) -> Row:
        mask = self.rows.mask if self.rows.masks else None
        return mask.row(table, values, before) if mask is not None else values

    def _ready(self, operation: InsertRow) -> _Ready:
        """What is to be inserted, without what points at rows that are not there yet."""
        self.at = operation.item
        table = self.tables[operation.table]
        values, places = self.placing.apart(operation.table, operation.values)
        values, up = self.nesting.apart(operation.table, values)
        row: Row = {column: self.placing.draft() for column in places}
        if up is not None:
            row[up.column] = 0
        later: Portable = {}
        for column, value in values.items():
            declared = table.column(column)
            if declared is None:
                continue  # a column that stays behind
            try:
                row[column] = self._as_nothing(operation.table, column, value, self.writer.value(value))
            except Unresolved:
                if column in table.key:
                    raise MergeRefused(f"{operation.item} rests on a row that is not {self.rows.target.where} yet.",
                                       next_step="Take that item first, then this one.") from None
                if not self.rows.profile.is_weak(operation.table, column):
                    later[column] = value
                if refs.number(value) is not None:
                    row[column] = None if declared.nullable else 0
                else:
                    row[column] = ValueWriter(self.rows.target_urls, self._number_or_none,
                                              self.rows.target_prefix).value(value)
        if operation.key is None and table.surrogate and table.name in self.rows.profile.given:
            last = self._given.get(table.name)
            row[table.key[0]] = self._given[table.name] = 1 + (last if last is not None else self.target_db.top(
                table) or 0)
        if operation.key is not None:
            row.update(zip(table.key, operation.key, strict=True))
        before = self.rows.target_tables.get(operation.table)
        source = self.rows.source_tables.get(operation.table)
        for declared in table.columns if before is not None else ():  # of new columns what is empty is said, too
            bare = declared.default is None and not declared.nullable and not declared.generated
            unknown = [t for t in (before, source) if t is not None and t.column(declared.name) is None]
            if bare and declared.name not in row and unknown:
                value = self.filled.get((operation.table, declared.name))
                row[declared.name] = self.rows.engine.default_value(declared) if value is None else value
        return _Ready(operation, self._masked(operation.table, row, {}), later, places, up)

    def _inserted(self, ready: _Ready, key: Key) -> Iterator[_Update]:
        operation = ready.operation
        if self.tables[operation.table].surrogate:
            self.done.keys[operation.table, str(operation.name[0])] = key[0]
            self.touched[operation.table, key[0]] = None
        self.done.inserted[operation.table, operation.name] = key
        self.placing.wait(operation.item, operation.table, key, ready.places, new=True)
        self.nesting.wait(operation.item, operation.table, key, ready.up, new=True)
        self._counts(operation.table, ready.row)
        if ready.later:
            yield operation.item, operation.table, key, ready.later

    def _number_or_none(self, table: str, name: str) -> Value:
        try:
            return self._number(table, name)
        except Unresolved:
            return 0

    def _counts(self, table: str, row: Row) -> None:
        """Note whose counters a row is part of."""
        for d in self.rows.profile.derived:
            if d.counts == table and row.get(d.by) is not None:
                self.touched[d.table, row[d.by]] = None

    def _counted_ahead(self) -> list[tuple[str, Value]]:
        """New rows whose counters are known before anything is locked: nobody else adds to these."""
        new = {(name, key[0]) for (name, _), key in self.done.inserted.items()}
        edited = {o.table for o in self.plan.of(UpdateRow)}
        late = {d.table for d in self.rows.profile.derived
                if d.counts in edited or (d.through is not None and d.through.table in edited)}
        return [(name, key) for name, key in self.touched if (name, key) in new and name not in late]

    def _see_to_parents(self) -> None:
        """What new rows point at by declared keys is there, and stays until the commit: they did not hold it."""
        pointed: dict[str, dict[Key, str]] = {}
        items = {(o.table, self.done.inserted.get((o.table, o.name))): o.item for o in self.plan.of(InsertRow)}
        for change in self.done.changed:
            if change.before is None and change.after is not None:
                for fk in self.tables[change.table].foreign_keys:
                    values = tuple(change.after.get(c) for c in fk.columns)
                    if None not in values:
                        pointed.setdefault(fk.target, {}).setdefault(values, items[change.table, change.key])
        self.verifier.there(self.tables, pointed)

    def _recount(self, touched: Iterable[tuple[str, Value]]) -> None:
        """Count anew what rows count, by table and key."""
        touched = list(touched)
        for row in touched:
            self.touched.pop(row, None)
        for d in self.rows.profile.derived:
            keys = [key for name, key in touched if name == d.table]
            if keys and d.table in self.tables and d.counts in self.tables:
                through = (self.tables[d.through.table], d.through.by, dict(d.through.where)) if d.through else None
                self.target_db.recount(self.tables[d.table], d.column, self.tables[d.counts], d.by, dict(d.where), keys,
                                       through)
