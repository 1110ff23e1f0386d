"""What an item cannot stand without, and what stands in its way."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from fnmatch import fnmatchcase
from functools import cached_property
from typing import Any

from nostos.core.anchor.names import CanonicalName, Origin, RowName, Side
from nostos.core.compare.field_merge import Standing, same
from nostos.core.compare.items import Comparison, Item, SchemaStep, with_standing
from nostos.core.compare.portable import Unresolved, Writer, named_rows, plain
from nostos.core.compare.row_states import Rows, RowState, side_key
from nostos.core.database.protocol import Database
from nostos.core.database.schema import ForeignKey, Row, Table, Value
from nostos.core.errors import LiveMoved
from nostos.core.patterns import matches
from nostos.core.plan.decisions import brings_back
from nostos.core.plan.row_writes import RowWrite, row_writes
from nostos.core.profiles.model import Reference, holds
from nostos.core.values.structures import Tree, fits, leaves
from nostos.core.values.tokens import CLOSE, OPEN

_FILE_URL = re.compile(f"{OPEN}u:[^{CLOSE}]*{CLOSE}/([^\"'<>()\\s{OPEN}{CLOSE}\\\\]+)")


@dataclass(frozen=True)
class Need:
    """`item` cannot stand without `on`, because of `reason`."""

    item: str
    on: str
    reason: str


class _Obstacle(Exception):
    pass


Needs = Mapping[str, tuple[Need, ...]]


def resolve(comparison: Comparison, live_db: Database) -> Needs:
    """The needs of every item that can go home. Items with something in their way become clashes that say what."""
    finder = _Finder(comparison, live_db)
    needs: dict[str, tuple[Need, ...]] = {}
    for item in list(comparison.items.values()):
        if not item.goes_home:
            continue
        try:
            needs[item.id] = tuple(dict.fromkeys(finder.needs(item)))
        except _Obstacle as obstacle:
            comparison.items[item.id] = with_standing(item, Standing.CLASH, str(obstacle))
    # What needs something that cannot go home cannot go home either.
    again = True
    while again:
        again = False
        for name in list(needs):
            for need in needs[name]:
                if need.on not in needs:
                    other = comparison.items[need.on]
                    why = f"needs {need.on} ({need.reason}), which cannot go home: {other.reason or other.standing}"
                    comparison.items[name] = with_standing(comparison.items[name], Standing.CLASH, why)
                    del needs[name]
                    again = True
                    break
    return needs


class Removals:
    """What live has that refers to what is to be removed: looked for in one pass a table before the merge's
    transaction, and inside it only where an index leads, and among rows that are newer than that pass."""

    def __init__(self, comparison: Comparison, items: Iterable[Item], live_db: Database) -> None:
        """Raises LiveMoved when live has built on something that is to be removed."""
        self.comparison = comparison
        self.items = tuple(items)
        self.tops: dict[str, int] = {}
        found = _Finder(comparison, live_db, self.items)
        self.removes = bool(found.removed)
        if self.removes:
            for name in found.unindexed:
                table = comparison.rows.live_tables[name]
                self.tops[name] = (live_db.top(table) or 0) if table.surrogate else -1
            moved = found.in_the_way()
            if moved is not None:
                raise LiveMoved(f"Live moved on meanwhile: {moved}.", next_step="Compare again.")
            # Made before the transaction, for making it looks at all that live gained.
            self._again = _Finder(comparison, live_db, self.items, self.tops)

    def moved(self, live_db: Database) -> str | None:
        """Inside the transaction, in the same connection: whether live has built on it since; says what, or None."""
        if not self.removes:
            return None
        with live_db.locking():
            return self._again.in_the_way()


def referred_again(comparison: Comparison, items: Iterable[Item], live_db: Database) -> tuple[str, ...]:
    """After a merge: what live has that refers to something which the merge removed. It came in the very moment."""
    there = live_db.tables()
    rows = replace(comparison.rows, live_tables={n: t for n, t in comparison.rows.live_tables.items() if n in there})
    finder = _Finder(replace(comparison, rows=rows), live_db, tuple(items))
    gone = set(finder.removed)
    return tuple(sorted({finder.called(name) for rows in finder.referrers().values() for name in rows
                         if name not in gone}))


class _Finder:
    """items: whose removals are looked at (None: of all that can go home). tops: look, where no index leads, only at
    rows with higher keys than these."""

    def __init__(self, comparison: Comparison, live_db: Database, items: Sequence[Item] | None = None,
                 tops: Mapping[str, int] | None = None) -> None:
        self.comparison = comparison
        self.tops = tops
        wanted = items if items is not None else [i for i in comparison.items.values() if i.goes_home]
        self.items = wanted
        self.removed = {w.state.id: w.state for i in wanted for w in row_writes(comparison.rows, i)
                        if w.action == "remove"}
        self._found: dict[RowName, list[RowName]] | None = None
        self.rows: Rows = comparison.rows
        self.live_db = live_db
        self.translator = self.rows.to_portable[Side.LIVE].on(live_db)
        self.writer = Writer(self.rows.live_urls, self._live_number, self.rows.live_prefix)
        # New files by path, for links to them; new rows by column values, for references that are not ids.
        self.new_files = {f.path: i.id for i in comparison.items.values() for f in i.files
                          if f.live is None and f.staging is not None}
        self.new_rows: dict[tuple[str, str, object], str] = {}
        targets = {(r.to, r.to_column) for r in self.rows.profile.references if r.to_column}
        for state in self.rows.states.values():
            if state.live is None and state.staging is not None:
                for table, column in targets:
                    if table == state.table and column in state.staging and state.id in comparison.owner:
                        self.new_rows[table, column, state.staging[column]] = comparison.owner[state.id]

    def _live_number(self, table: str, name: str) -> Value:
        key = self.rows.live_keys.key(table, name)
        if key is None:
            raise Unresolved(table, name)
        return key

    def needs(self, item: Item) -> Iterator[Need]:
        """What an item needs. Raises _Obstacle when something is in its way."""
        writes = row_writes(self.rows, item)
        for write in writes:
            yield from self._schema(item, write)
            if write.action == "remove":
                yield from self._removal(item, write.state, {w.state.id for w in writes if w.action == "remove"})
            else:
                yield from self._written(item, write)
                yield from self._unique(item, write, {w.state.id for w in writes if w.action == "remove"})
        for step in item.schema:
            yield from self._stepped(item, step)
        if item.folder:
            yield from self._owned(item)
        for file in item.files:
            if file.standing is Standing.HOMEWARD and file.staging is None and not item.folder:
                self._file_in_use(item, file.path)

    def _stepped(self, item: Item, step: SchemaStep) -> Iterator[Need]:
        """What a schema step needs, and what is in its way."""
        live, staging = self.rows.live_tables.get(step.table), self.rows.staging_tables.get(step.table)
        if step.what != "table" and live is None:
            yield Need(item.id, f"table/{step.table}", "it is part of that table")
        if live is None or staging is None:
            return
        if step.what == "index" and step.action != "drop":
            for columns in set(staging.uniques) - set(live.uniques):
                if {*columns} <= {*live.names} and self.live_db.has_duplicates(live, columns):
                    raise _Obstacle(f"live has rows with the same {', '.join(columns)}, which it would forbid")
                for column in columns:
                    if live.column(column) is None:
                        yield Need(item.id, f"column/{step.table}.{column}", "it is made over that column")
        if step.what == "column" and step.action == "change":
            reason = self.live_db.cannot_change(staging)
            if reason is not None:
                raise _Obstacle(reason)
            new = staging.column(step.name)
            if new is not None and not new.nullable and self.live_db.has_null(live, step.name):
                raise _Obstacle("live has rows without a value there, which it would forbid")

    # --- what is written points at

    def _written(self, item: Item, write: RowWrite) -> Iterator[Need]:
        for named in sorted(write.named):
            need = self._target(item, write, *named)
            if need is not None:
                yield need
        staging = write.state.staging or {}
        for r in self.rows.profile.references_of(write.state.table):
            if r.column not in write.values or not holds(r.where, {**plain(staging), **write.state.joined}):
                continue
            value = write.values[r.column]
            if r.to_column is not None:
                yield from self._by_value(item, r, value)
            elif r.to_folder:
                for name in _names(r, value):
                    folder = self.comparison.items.get(f"{r.to_folder}/{name.partition('/')[0]}")
                    if folder is not None and folder.change == "new" and folder.id != item.id and folder.goes_home:
                        yield Need(item.id, folder.id, f"{_where(write, r.column)} names it")
        yield from self._by_key(item, write)
        for column, value in write.values.items():
            for text in _texts(value):
                for match in _FILE_URL.finditer(text):
                    owner = self.new_files.get(match.group(1).split("?")[0].split("#")[0])
                    if owner is not None and owner != item.id:
                        yield Need(item.id, owner, f"{_where(write, column)} links to its file")

    def _target(self, item: Item, write: RowWrite, table: str, name: str) -> Need | None:
        state = self.rows.states.get((table, (name,)))
        column = next((c for c, v in write.values.items() if (table, name) in named_rows(v)), "")
        place = _where(write, column)
        parsed = CanonicalName.parse(name)
        if parsed.origin is Origin.NOWHERE:
            there = self.rows.live_tables.get(table)
            if there is not None and self.live_db.fetch(there, (parsed.number,)):
                raise _Obstacle(f"{place} points at {table} {parsed.number}, which staging does not have, "
                                "while live has another thing by that number")
            return None
        if state is None and self.rows.keep_keys and table in self.rows.live_tables and (
                parsed.origin is Origin.ANCHOR
                and self.live_db.fetch(self.rows.live_tables[table], (parsed.number,)) is None):
            raise _Obstacle(f"{place} points at {table} {name}, which live has removed since")
        if state is None or state.live is not None:
            return None
        owner = self.comparison.owner.get(state.id)
        if state.staging is None or owner is None or self._stays_away(state, owner):
            gone = owner or f"{table} {name}"
            raise _Obstacle(f"{place} points at {gone}, which live has removed since")
        if owner == item.id:
            return None
        return Need(item.id, owner, f"{place} points at it")

    def _stays_away(self, state: RowState, owner: str) -> bool:
        """Whether live removed a row, and it was not decided that it comes back."""
        return state.base is not None and not brings_back(self.comparison.items[owner])

    def _by_key(self, item: Item, write: RowWrite) -> Iterator[Need]:
        """Rows that declared keys of several columns point at, and such as have no number of their own."""
        form = {**(write.state.live or {}), **write.values}
        for fk, target in self._keyed(write.state.table):
            values = dict(zip(fk.target_columns, (form.get(c) for c in fk.columns), strict=False))
            if not set(fk.columns) & set(write.values) or any(values.get(k) is None for k in target.key):
                continue
            state = self.rows.states.get((target.name, tuple(values[k] for k in target.key)))
            if state is None or state.live is not None:
                continue
            owner = self.comparison.owner.get(state.id)
            if owner is None or state.staging is None or self._stays_away(state, owner):
                raise _Obstacle(f"its {', '.join(fk.columns)} points at {owner or target.name}, "
                                "which live has removed since")
            if owner != item.id:
                yield Need(item.id, owner, f"its {', '.join(fk.columns)} points at it")

    def _keyed(self, table: str) -> Iterator[tuple[ForeignKey, Table]]:
        """The declared keys of a table that lead to rows by natural or composite keys."""
        for fk in self.rows.table(table).foreign_keys:
            if fk.target in self.rows.live_tables or fk.target in self.rows.staging_tables:
                target = self.rows.table(fk.target)
                if not target.surrogate and target.key and set(target.key) <= set(fk.target_columns):
                    yield fk, target

    def _by_value(self, item: Item, r: Reference, value: Any) -> Iterator[Need]:
        if value is None or isinstance(value, Tree) or r.to_column is None:
            return
        owner = self.new_rows.get((r.to, r.to_column, value))
        if owner is not None:
            if owner != item.id:
                yield Need(item.id, owner, f"{r.column} points at it")
        elif r.to in self.rows.live_tables:
            try:
                raw = self.writer.value(value)
            except Unresolved:
                return
            if not self.live_db.find(self.rows.live_tables[r.to], {r.to_column: raw}):
                raise _Obstacle(f"{r.column} points at {r.to} {value}, which live does not have")

    def _schema(self, item: Item, write: RowWrite) -> Iterator[Need]:
        table = self.rows.live_tables.get(write.state.table)
        if table is None:
            yield Need(item.id, f"table/{write.state.table}", "its rows are kept in it")
            return
        for column in write.values:
            if table.column(column) is None:
                yield Need(item.id, f"column/{table.name}.{column}", "its values are kept in it")

    def _owned(self, item: Item) -> Iterator[Need]:
        """The tables and columns that come with a folder item, such as an extension."""
        folder = next(f for f in self.rows.profile.folders if f.kind == item.kind)
        name = item.id.partition("/")[2].replace("-", "_")
        for other in self.comparison.items.values():
            if other.schema and other.change == "new" and other.schema[0].side is Side.STAGING:
                step = other.schema[0]
                full = step.table if step.what == "table" else f"{step.table}.{step.name}"
                if step.what != "index" and any(fnmatchcase(full, p.replace("{name}", name)) for p in folder.owns):
                    yield Need(item.id, other.id, f"the {step.what} comes with it")

    # --- what would be in the way

    def _unique(self, item: Item, write: RowWrite, removed: set[Any]) -> Iterator[Need]:
        """Rows of live's that have the very values that must not repeat: needed to make room, if they do in staging."""
        table = self.rows.live_tables.get(write.state.table)
        if table is None:
            return
        staging = write.state.staging or {}
        keys = () if table.surrogate or write.action == "update" else (table.key,)
        for columns in (*table.uniques, *keys):
            if not set(columns) & set(write.values):
                continue
            try:
                values = {c: self.writer.value(write.values.get(c, (write.state.live or staging).get(c)))
                          for c in columns}
            except Unresolved:
                continue  # rests on a row that is new itself
            if any(v is None for v in values.values()):
                continue
            for row in self.live_db.find(table, values):
                name = self._named(table, row)
                if table.key_of(row) == write.state.live_key or name in removed:
                    continue
                other = self.comparison.owner.get(name, f"{table.name} {','.join(map(str, name[1]))}")
                if name in self.comparison.owner and self._makes_room(name, columns):
                    if other != item.id:
                        yield Need(item.id, other, f"it makes room for the same {', '.join(columns)}")
                    continue
                said = ", ".join(f"{c} {v!r}" for c, v in values.items())
                raise _Obstacle(f"live already has {other} with the same {said}")

    def _makes_room(self, name: RowName, columns: Sequence[str]) -> bool:
        """Whether staging gave a row other values, or removed it, and live left it as it was."""
        state = self.rows.states.get(name)
        if state is None or state.base is None or state.live is None:
            return False
        return state.staging is None or any(
            same(state.base.get(c), state.live.get(c)) and not same(state.base.get(c), state.staging.get(c))
            for c in columns)

    def _removal(self, item: Item, state: RowState, together: set[Any]) -> Iterator[Need]:
        assert state.live_key is not None
        for row_name in self._referrers(state):
            if row_name in together:
                continue
            other = self.rows.states.get(row_name)
            owner = self.comparison.owner.get(row_name)
            called = owner or self.called(row_name)
            target = (state.table, str(state.name[0]))
            if other is None and self.rows.keep_keys:
                raise _Obstacle(f"live has built on it since: {called}")
            if other is None or owner is None or (other.staging and _points(other.staging, target)):
                raise _Obstacle(f"removed in staging, but {called} on live still refers to it")
            if other.base is None or (other.live and not _points(other.base, target) and state.name[0] is not None
                                      and self.rows.table(state.table).surrogate):
                raise _Obstacle(f"removed in staging, but live has built on it since: {owner}")
            if owner != item.id:
                yield Need(item.id, owner, "it refers to what is removed")

    def in_the_way(self) -> str | None:
        """Why one of the removals cannot be made; None: nothing is in their way."""
        for item in self.items:
            removed = {w.state.id for w in row_writes(self.rows, item) if w.action == "remove"}
            try:
                for name in removed:
                    for _ in self._removal(item, self.removed[name], removed):
                        pass
            except _Obstacle as obstacle:
                return f"{item.id}: {obstacle}"
        return None

    def _referrers(self, state: RowState) -> Iterator[RowName]:
        """The live rows that point at a row."""
        yield from self.referrers().get(state.id, ())

    @property
    def unindexed(self) -> set[str]:
        """The tables in which rows that point at what is removed are not to be found by an index."""
        return {at.name for r, at in self._pointing() if not self._by_index(r, at)} | {
            at.name for at, fk, _ in self._declared() if not at.indexed(fk.columns[0])}

    def _pointing(self) -> Iterator[tuple[Reference, Table]]:
        gone = {s.table for s in self.removed.values()}
        for r in self.rows.profile.references:
            at = self.rows.live_tables.get(r.table)
            if r.to in gone and at is not None and at.key and at.column(r.column) is not None:
                yield r, at

    def _declared(self) -> Iterator[tuple[Table, ForeignKey, Table]]:
        """The declared keys that lead to what is removed and are no references: by composite or natural keys, and from
        tables without a key, whose rows are not compared: the database might remove them along with it."""
        gone = {s.table for s in self.removed.values()}
        for table in self.rows.live_tables.values():
            for fk, goal in self._keyed(table.name) if table.key else ():
                if goal.name in gone:
                    yield table, fk, goal
        for table in self._keyless:
            for fk in table.foreign_keys:
                if fk.target in gone:
                    yield table, fk, self.rows.live_tables[fk.target]

    @cached_property
    def _keyless(self) -> list[Table]:
        return [t for t in self.live_db.tables().values() if not t.key
                and not matches(t.name, self.rows.profile.volatile)] if self.removed else []

    @staticmethod
    def _by_index(r: Reference, at: Table) -> bool:
        return at.indexed(r.column) and not (r.path or r.pattern)

    def referrers(self) -> dict[RowName, list[RowName]]:
        """The live rows that point at each row which is to be removed; found in one pass for each kind of reference.
        """
        if self._found is not None:
            return self._found
        found: dict[RowName, list[RowName]] = {}
        for table, fk, goal in self._declared():
            self._by_declared_key(found, table, fk, goal)
        for r, at in self._pointing():
            self._by_reference(found, r, at)
        self._found = found
        return found

    def _candidates(self, at: Table, column: str, values: Sequence[Value], where: Mapping[str, str],
                    numbers: Sequence[int] = ()) -> Iterator[Row]:
        """Rows that may point at something. numbers: look for these within the column's text."""
        if self.tops is not None and at.name in self.tops and (numbers or not at.indexed(column)):
            return iter(()) if self.tops[at.name] < 0 else self.live_db.above(at, self.tops[at.name])
        if numbers:
            return self.live_db.mentioning(at, column, numbers, where)
        return self.live_db.find_any(at, column, values, where)

    def _by_declared_key(self, found: dict[RowName, list[RowName]], table: Table, fk: ForeignKey, goal: Table) -> None:
        wanted: dict[tuple[object, ...], list[RowName]] = {}
        for name, state in self.removed.items():
            if state.table == goal.name and state.live_raw is not None:
                values = tuple(state.live_raw[t] for t in fk.target_columns)
                wanted.setdefault(values, []).append(name)
        for row in self._candidates(table, fk.columns[0], [v[0] for v in wanted], {}):  # type: ignore[misc]
            for name in wanted.get(tuple(row[c] for c in fk.columns), ()):
                found.setdefault(name, []).append(self._named(table, row))

    def _by_reference(self, found: dict[RowName, list[RowName]], r: Reference, at: Table) -> None:
        targets = {name: s for name, s in self.removed.items() if s.table == r.to and s.live_raw is not None
                   and s.live_key is not None}
        where = {c: said for c, said in r.where if not set(said) & set("*?[")}
        translator = self.translator
        if r.to_column is not None:
            by_value: dict[object, list[RowName]] = {}
            for name, s in targets.items():
                by_value.setdefault((s.live_raw or {}).get(r.to_column), []).append(name)
            rows = self._candidates(at, r.column, list(by_value), where)  # type: ignore[arg-type]
        else:
            keys = [s.live_key[0] for s in targets.values() if s.live_key is not None]
            numbers = [k for k in keys if isinstance(k, int)] if r.path or r.pattern else []
            rows = self._candidates(at, r.column, [*keys, *map(str, keys)], where, numbers)
        for row in rows:
            full = translator.full(r.table, row)
            if not holds(r.where, full):
                continue
            if r.to_column is not None:
                hit = by_value.get(row.get(r.column), [])
            else:
                hit = [(t, (n,)) for t, n in named_rows(translator.value(r.table, full, r.column))]
            for name in hit:
                if name in targets:
                    found.setdefault(name, []).append(self._named(at, row))

    def called(self, name: RowName) -> str:
        """What a live row that did not change is called."""
        if not name[1]:
            return f"a row of {name[0]}, which has no key,"
        table = self.rows.live_tables[name[0]]
        key = side_key(table, name[1], self.translator)
        row = self.live_db.fetch(table, key) if key is not None else None
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

    def _file_in_use(self, item: Item, path: str) -> None:
        """A file must stay while a row that stays names it."""
        removed = {w.state.id for w in row_writes(self.rows, item) if w.action == "remove"}
        for owned in self.rows.profile.files:
            table = self.rows.live_tables.get(owned.table)
            if table is None:
                continue
            for value in owned.values(path)[:1]:
                for row in self.live_db.find(table, {owned.column: value}):
                    if holds(owned.where, row) and self._named(table, row) not in removed:
                        raise _Obstacle(f"its file {path} was removed in staging, but live still shows it")


def _points(form: Mapping[str, Any], target: tuple[str, str]) -> bool:
    return any(target in named_rows(v) for v in form.values())


def _names(r: Reference, value: Any) -> Iterator[str]:
    if isinstance(value, Tree):
        pattern = r.path or ()
        for path, leaf in leaves(value.data):
            if isinstance(leaf, str) and (fits(pattern, path) or not path):
                yield leaf
    elif isinstance(value, str):
        yield value.strip('"')  # a setting may be JSON text
    elif isinstance(value, list):
        yield from (v for v in value if isinstance(v, str))


def _texts(value: Any) -> Iterator[str]:
    if isinstance(value, Tree):
        yield from (leaf for _, leaf in leaves(value.data) if isinstance(leaf, str))
    elif isinstance(value, str):
        yield value


def _where(write: RowWrite, column: str) -> str:
    """Where in an item a reference stands, for people."""
    staging = write.state.staging or {}
    name = staging.get("name")
    return f"{name}" if column == "value" and isinstance(name, str) else f"its {column}"
