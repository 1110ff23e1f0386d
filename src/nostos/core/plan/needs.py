"""What an item cannot stand without, and what stands in its way."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from fnmatch import fnmatchcase
from html import unescape
from itertools import islice
from typing import Any
from urllib.parse import unquote

from nostos.core.anchor.names import CanonicalName, Origin, RowName
from nostos.core.compare.field_merge import Standing
from nostos.core.compare.gather import refs_to
from nostos.core.compare.items import Comparison, Item, SchemaAction, SchemaStep, with_standing
from nostos.core.compare.portable import Unresolved, named_rows, plain
from nostos.core.compare.row_states import RowState, twin_name
from nostos.core.database.protocol import Database
from nostos.core.database.schema import NAMED, Table
from nostos.core.expressions import expression
from nostos.core.patterns import matching
from nostos.core.plan.decisions import brings_back
from nostos.core.plan.obstacles import Need, Obstacle
from nostos.core.plan.referrers import Referrers
from nostos.core.plan.removed_together import removed_with
from nostos.core.plan.row_writes import RowWrite, WriteAction, row_writes
from nostos.core.plan.tree_places import TreePlaces
from nostos.core.profiles.conditions import holds
from nostos.core.profiles.entities import definitions_of, field_of, field_tables
from nostos.core.profiles.parts import Reference
from nostos.core.values.names import written
from nostos.core.values.structures import StructuredValue, fits, leaves
from nostos.core.values.tokens import CLOSE, OPEN

_FILE_URL = expression(f"{OPEN}u:[^{CLOSE}]*{CLOSE}(?:/|\\\\+/|%2[Ff])([^\"'<>{OPEN}{CLOSE}\n]{{1,1024}})")
# What may be the name of a file: it has an ending, or is a digest.
_FILE_NAME = expression(r"[^/]\.\w{1,9}$|(?:^|/)[0-9A-Fa-f]{24,}$")
_LONGEST_PATH = 500
_BLANKS = 10  # in one file's name

_WORKED_ON = (Standing.HOMEWARD, Standing.BLENDED, Standing.CLASH, Standing.OPEN)  # the source has changed it

Needs = Mapping[str, tuple[Need, ...]]


def resolve(comparison: Comparison, target_db: Database, leave: Sequence[str] = ()) -> Needs:
    """The needs of every item that can go home. Items with something in their way become clashes that say what. leave:
    patterns of what stays by name: what that is part of goes without it."""
    finder = _Finder(comparison, target_db)
    needs: dict[str, tuple[Need, ...]] = {}
    for item in list(comparison.items.values()):
        if not item.goes_home:
            continue
        try:
            needs[item.id] = tuple(dict.fromkeys(finder.needs(item)))
        except Obstacle as obstacle:
            comparison.items[item.id] = with_standing(item, Standing.CLASH, str(obstacle))
    for name, need in (*_together(comparison, needs), *_parts(comparison, needs, leave)):
        needs[name] = (*needs[name], need)
    # What needs something that cannot go home cannot either; nor can what was removed with something that stays.
    rests = {name: [(on, f"was removed with {on}, which stays") for on in sorted(owners)]
             for name, owners in removed_with(comparison, needs).items()}
    for name, some in needs.items():
        rests.setdefault(name, []).extend(
            (n.on, f"needs {n.on} ({n.reason}), which cannot go home") for n in some)
        over = comparison.items.get(comparison.items[name].goes_with)
        if over is not None and over.standing in _WORKED_ON:
            rests[name].append((over.id, f"is part of {over.id}, which cannot go home"))
    again = True
    while again:
        again = False
        for name in list(needs):
            stuck = next(((on, why) for on, why in rests[name] if on not in needs), None)
            if stuck is not None:
                other = comparison.items[stuck[0]]
                waits = Standing.OPEN if other.standing is Standing.OPEN else Standing.CLASH
                comparison.items[name] = with_standing(
                    comparison.items[name], waits, f"{stuck[1]}: {other.reason or other.standing}")
                del needs[name]
                again = True
    return needs


def _linked(text: str) -> Iterator[str]:
    """The paths below the site's address that a portable text may mean: names may hold blanks and percent codes."""
    for match in _FILE_URL.finditer(written(text, False)) if OPEN in text else ():
        address = unescape(match.group(1)).replace("\\", "")
        path = re.split(r"[?#]", address)[0]
        for end in islice(re.finditer(r"[\s),;\]}]|$", path), _BLANKS):
            yield path[:end.start()]
            yield unquote(path[:end.start()])


def _together(comparison: Comparison, needs: Needs) -> list[tuple[str, Need]]:
    """What is part of one update with something else: all of it goes home, or none."""
    names = []
    for group in comparison.rows.profile.together:
        owner = comparison.items.get(comparison.files.get(group.file, ""))
        if owner is None or not any(f.path == group.file and f.standing is not Standing.KEPT for f in owner.files):
            continue
        parts = [n for n in sorted(matching(comparison.items, group.items)) if n in needs or comparison.items[
            n].standing is Standing.CLASH]
        names += [(one, Need(one, other, "it is part of the same update")) for one in parts if one in needs
                  for other in parts if other != one]
    return names


def _parts(comparison: Comparison, needs: Needs, leave: Sequence[str]) -> list[tuple[str, Need]]:
    """What is part of something that goes: all of it goes home, or none, but for what is left by name."""
    parts = {i.id: i.goes_with for i in comparison.items.values() if i.goes_with in needs and i.standing in _WORKED_ON}
    for name in matching(parts, leave) if leave else ():
        del parts[name]
    return [(over, Need(over, name, "it is part of it", part=True)) for name, over in parts.items()]


class _Finder(TreePlaces):
    """What an item needs: whatever that which it writes points at, its schema, and what makes room for it."""

    def __init__(self, comparison: Comparison, target_db: Database) -> None:
        super().__init__(comparison, target_db)
        # What the system itself would call removed in staging, and what live has that refers to it.
        self.gone = Referrers(comparison, target_db, ())
        self.gone.removed = {w.state.id: w.state for i in comparison.items.values() if i.goes_home
                             for w in row_writes(self.rows, i) if self._is_gone(w)}
        self.along = self._along()
        self.fields = self._fields() if self.rows.profile.entities else {}
        self.free: dict[str, bool] = {}
        # New files by path, for links to them; new rows by column values, for references that are not ids.
        self.new_files = {f.path: i.id for i in comparison.items.values() for f in i.files
                          if f.target is None and f.source is not None}
        self.by_name: dict[str, list[str]] = {}  # of these, those that are no row's, by their names
        for path, owner in self.new_files.items():
            if comparison.items[owner].kind == "file":
                self.by_name.setdefault(path.rpartition("/")[2], []).append(path)
        self.new_rows: dict[tuple[str, str, object], str] = {}
        targets = {(r.to, r.to_column) for r in self.rows.profile.references if r.to_column}
        for state in self.rows.states.values():
            if state.target is None and state.source is not None:
                for table, column in targets:
                    if table == state.table and column in state.source and state.id in comparison.owner:
                        self.new_rows[table, column, state.source[column]] = comparison.owner[state.id]

    def _along(self) -> dict[RowName, list[str]]:
        """What goes along with each row, by its item."""
        needs: dict[RowName, list[str]] = {}
        for along in self.rows.profile.along:
            for state in self.rows.states.values():
                if state.table == along.table and state.source is not None and state.base is not None and holds(
                        along.where, plain(state.source)) != holds(along.where, plain(state.base)):
                    named = refs_to(state.source.get(along.column))
                    owner = self.comparison.owner.get(state.id)
                    if named is not None and owner is not None and self.comparison.items[owner].goes_home:
                        needs.setdefault((named[0], (named[1],)), []).append(owner)
        return needs

    def _fields(self) -> dict[str, set[str]]:
        """By item, what else a field is that staging has gained: its configuration, its tables, what is kept of it."""
        parts: dict[str, set[str]] = {}
        items = {i.id: i for i in self.comparison.items.values() if i.change == "new" and i.goes_home}
        for item in items.values():
            for state in item.rows:
                if field := field_of(state.table, state.name):
                    parts.setdefault(field, set()).add(item.id)
        for field, some in parts.items():
            some |= {f"table/{t}" for t in field_tables(field)} & items.keys()
            kept = {self.comparison.owner.get(row) for row in definitions_of(field)}
            some |= {i for i in kept if i is not None and self.comparison.items[i].goes_home}
        # What keeps the definitions of all fields of a type brings all of them that are new.
        others: dict[str, set[str]] = {}
        for some in parts.values():
            for one in some:
                others.setdefault(one, set()).update(some - {one})
        return others

    def needs(self, item: Item) -> Iterator[Need]:
        """What an item needs. Raises Obstacle when something is in its way."""
        for other in self.along.get(item.root, ()) if item.root is not None else ():
            yield Need(item.id, other, "it goes along with it")
        for other in sorted(self.fields.get(item.id, ())):
            yield Need(item.id, other, "it is of the same field")
        writes = row_writes(self.rows, item)
        for write in writes:
            yield from self._schema(item, write)
            if write.action is WriteAction.REMOVE:
                yield from self._removal(item, write.state,
                                         {w.state.id for w in writes if w.action is WriteAction.REMOVE})
            else:
                yield from self._written(item, write)
                yield from self._place(item, write)
                self._discarded(write)
                yield from self._unique(item, write, {w.state.id for w in writes if w.action is WriteAction.REMOVE})
        for step in item.schema:
            yield from self._stepped(item, step)
        if item.folder:
            yield from self._owned(item)
        for kind in dict.fromkeys(f.kind for f in self.rows.profile.folders if f.noted == item.kind):
            updated = self.comparison.items.get(f"{kind}/{item.id.partition('/')[2]}")
            if updated is not None and updated.goes_home:
                yield Need(item.id, updated.id, "it notes how far that was updated")
        self._numbers(item)
        for file in item.files:
            if file.standing is Standing.HOMEWARD and file.source is None and not item.folder:
                self._file_in_use(item, file.path)

    def _numbers(self, item: Item) -> None:
        """Raises Obstacle where a file lies under the number of a row that has, or gets, another one there."""
        for file in item.files if self.rows.numbered and not self.rows.keep_keys else ():
            row = self.rows.numbered.get(file.path)
            if row is None or file.standing is not Standing.HOMEWARD:
                continue
            table, state = self.rows.table(row[0]), self.rows.states.get(row)
            born = state is not None and state.target is None and state.source is not None
            number = state.source_key if state is not None else None
            if born and number is not None and self._is_free(table):
                self.rows.as_numbered.add(table.name)
                continue
            key = self.rows.target_keys.key(row[0], str(row[1][0]))
            here = self.rows.source_keys.key(row[0], str(row[1][0]))
            if born or key != here:
                raise Obstacle(f"its file {file.path} lies under its number, which is another thing's on "
                               f"{self.rows.target}")

    def _is_free(self, table: Table) -> bool:
        """Whether every number that the source has given out to new rows of a table is still to be given out there."""
        if table.name not in self.free:
            keys = [s.source_key[0] for s in self.rows.states.values() if s.table == table.name and s.source_key
                     and s.target is None and s.base is None and isinstance(s.source_key[0], int)]
            target = self.rows.target_tables.get(table.name)
            taken = 0 if target is None else max(self.target_db.top(target) or 0, self.target_db.counter(target) or 0)
            self.free[table.name] = bool(keys) and min(keys) > taken
        return self.free[table.name]

    def _is_gone(self, write: RowWrite) -> bool:
        """Whether a row goes where its system keeps what was removed, such as a bin."""
        state = write.state
        if write.action is not WriteAction.UPDATE or state.source is None or state.target is None:
            return False
        kind = self.rows.profile.kind_of(state.table, {**plain(state.source), **state.joined})
        return kind is not None and bool(kind.gone) and holds(kind.gone, plain(state.source)) and not holds(
            kind.gone, plain(state.target))

    def _discarded(self, write: RowWrite) -> None:
        """Raises Obstacle where live has built upon what was thrown away in staging."""
        for name in self.gone.referrers().get(write.state.id, ()) if write.state.id in self.gone.removed else ():
            other = self.rows.states.get(name)
            if other is not None and other.base is None and other.target is not None and other.source is None:
                owner = self.comparison.owner.get(name) or self.called(name)
                raise Obstacle(f"removed {self.rows.source.where}, but {self.rows.target} has built on it since: "
                               f"{owner}")

    def _stepped(self, item: Item, step: SchemaStep) -> Iterator[Need]:
        """What a schema step needs, and what is in its way."""
        target, source = self.rows.target_tables.get(step.table), self.rows.source_tables.get(step.table)
        if step.what != "table" and target is None:
            yield Need(item.id, f"table/{step.table}", "it is part of that table")
        if target is None or source is None:
            return
        if step.what == "index" and step.action is not SchemaAction.DROP:
            for columns in set(source.uniques) - set(target.uniques):
                if {*columns} <= {*target.names} and self.target_db.has_duplicates(target, columns):
                    raise Obstacle(f"{self.rows.target} has rows with the same {', '.join(columns)}, which it would "
                                   "forbid")
                for column in columns:
                    if target.column(column) is None:
                        yield Need(item.id, f"column/{step.table}.{column}", "it is made over that column")
        if step.what == "constraint" and step.action is not SchemaAction.DROP:
            for column in set(source.names) - set(target.names):
                if re.search(rf"(?<!\w){re.escape(column)}(?!\w)", step.ddl):
                    yield Need(item.id, f"column/{step.table}.{column}", "it is about that column")
            for key in set(source.foreign_keys) - set(target.foreign_keys):
                if key.target not in self.rows.target_tables and re.search(
                        rf"(?<!\w){re.escape(key.target)}(?!\w)", step.ddl):
                    yield Need(item.id, f"table/{key.target}", "it points at that table")
        if step.what == "column" and step.action is SchemaAction.CHANGE:
            reason = self.target_db.cannot_change(source)
            if reason is not None:
                raise Obstacle(reason)
            new = source.column(step.name)
            if new is not None and not new.nullable and self.target_db.has_null(target, step.name):
                raise Obstacle(f"{self.rows.target} has rows without a value there, which it would forbid")

    # --- what is written points at

    def _written(self, item: Item, write: RowWrite) -> Iterator[Need]:
        profile = self.rows.profile
        weak = {c for c in write.values if profile.is_weak(write.state.table, c)}
        for named in sorted({n for c, v in write.values.items() if c not in weak for n in named_rows(v)}):
            need = self._target(item, write, *named)
            if need is not None:
                yield need
        source = write.state.source or {}
        full = {**plain(source), **write.state.joined}
        for r in self.rows.profile.references_of(write.state.table):
            if r.column not in write.values or not holds(r.where, full):
                continue
            value = write.values[r.column]
            if r.by_name:
                yield from self._inside(item, write, r)
            elif r.to_column is not None:
                yield from self._by_value(item, r, value)
            elif r.to_folder:
                for name in r.names_in(value) if r.keys else _names(r, value):
                    folder = self.comparison.items.get(f"{r.to_folder}/{name.partition('/')[0]}")
                    if folder is not None and folder.change == "new" and folder.id != item.id and folder.goes_home:
                        yield Need(item.id, folder.id, f"{_where(write, r.column)} names it")
        yield from self._by_key(item, write)
        for column, value in write.values.items():
            for text in _texts(value):
                for path in _linked(text) if self.new_files else ():
                    owner = self.new_files.get(path)
                    if owner is not None and owner != item.id:
                        yield Need(item.id, owner, f"{_where(write, column)} links to its file")
                paths = self.by_name.get(text.rpartition("/")[2], []) if self.by_name and len(
                    text) < _LONGEST_PATH else []
                for path in paths:
                    if _FILE_NAME.search(text) and f"/{path}".endswith(f"/{text.lstrip('/')}"):
                        yield Need(item.id, self.new_files[path], f"{_where(write, column)} names it")

    def _target(self, item: Item, write: RowWrite, table: str, name: str) -> Need | None:
        state = self.rows.states.get((table, (name,)))
        column = next((c for c, v in write.values.items() if (table, name) in named_rows(v)), "")
        place = _where(write, column)
        parsed = CanonicalName.parse(name)
        if parsed.origin is Origin.NOWHERE:
            target_table = self.rows.target_tables.get(table)
            if self._is_told(write, column, table):
                self.rows.nowhere.add(table)  # where it might lead to anything there, it is written as nothing
            elif target_table is not None and self.target_db.fetch(target_table, (parsed.number,)):
                raise Obstacle(f"{place} points at {table} {parsed.number}, which {self.rows.source} does not have, "
                                f"while {self.rows.target} has another thing by that number")
            return None
        if state is None and self.rows.keep_keys and table in self.rows.target_tables and (
                parsed.origin is Origin.ANCHOR
                and self.target_db.fetch(self.rows.target_tables[table], (parsed.number,)) is None):
            raise Obstacle(f"{place} points at {table} {name}, which {self.rows.target} has removed since")
        if state is None or state.target is not None:
            return None
        owner = self.comparison.owner.get(state.id)
        if state.source is None or owner is None or self._stays_away(state, owner):
            gone = owner or f"{table} {name}"
            raise Obstacle(f"{place} points at {gone}, which {self.rows.target} has removed since")
        if owner == item.id:
            return None
        return Need(item.id, owner, f"{place} points at it")

    def _is_told(self, write: RowWrite, column: str, table: str) -> bool:
        """Whether the schema or a profile says that a column points at a table; what was learned may be a number."""
        return any(r.column == column and r.to == table and not r.learned
                   for r in self.rows.profile.references_of(write.state.table))

    def _stays_away(self, state: RowState, owner: str) -> bool:
        """Whether live removed a row, and it was not decided that it comes back."""
        return state.base is not None and not brings_back(self.comparison.items[owner])

    def _by_key(self, item: Item, write: RowWrite) -> Iterator[Need]:
        """Rows that declared keys of several columns point at, and such as have no number of their own."""
        form = {**(write.state.target or {}), **write.values}
        for fk, target in self._keyed(write.state.table):
            values = dict(zip(fk.target_columns, (form.get(c) for c in fk.columns), strict=False))
            if not set(fk.columns) & set(write.values) or any(values.get(k) is None for k in target.key):
                continue
            key = tuple(values[k] for k in target.key)
            name = twin_name(key) if len(key) == 1 and isinstance(key[0], int) else key
            state = self.rows.states.get((target.name, name)) or self.rows.states.get((target.name, key))
            if state is None or state.target is not None:
                continue
            owner = self.comparison.owner.get(state.id)
            if owner is None or state.source is None or self._stays_away(state, owner):
                raise Obstacle(f"its {', '.join(fk.columns)} points at {owner or target.name}, "
                                f"which {self.rows.target} has removed since")
            if owner != item.id:
                yield Need(item.id, owner, f"its {', '.join(fk.columns)} points at it")

    def _by_value(self, item: Item, r: Reference, value: Any) -> Iterator[Need]:
        if value is None or isinstance(value, StructuredValue) or r.to_column is None:
            return
        owner = self.new_rows.get((r.to, r.to_column, value))
        if owner is not None:
            if owner != item.id:
                yield Need(item.id, owner, f"{r.column} points at it")
        elif r.to in self.rows.target_tables:
            try:
                raw = self.writer.value(value)
            except Unresolved:
                return
            if not self.target_db.find(self.rows.target_tables[r.to], {r.to_column: raw}):
                raise Obstacle(f"{r.column} points at {r.to} {value}, which {self.rows.target} does not have")

    def _inside(self, item: Item, write: RowWrite, r: Reference) -> Iterator[Need]:
        """What names inside a value point at, and the target does not have. What nobody has, nobody has missed."""
        known = set(r.names_in((write.state.target or {}).get(r.column)))
        for name in dict.fromkeys(r.names_in(write.values[r.column])):
            owner = self.new_rows.get((r.to, str(r.to_column), name)) if name not in known else None
            if owner is not None and owner != item.id:
                yield Need(item.id, owner, f"{_where(write, r.column)} names it")

    def _schema(self, item: Item, write: RowWrite) -> Iterator[Need]:
        table = self.rows.target_tables.get(write.state.table)
        if table is None:
            yield Need(item.id, f"table/{write.state.table}", "its rows are kept in it")
            return
        for column in write.values:
            if table.column(column) is None:
                yield Need(item.id, f"column/{table.name}.{column}", "its values are kept in it")

    def _owned(self, item: Item) -> Iterator[Need]:
        """The tables and columns that come with a folder item, such as an extension."""
        folder = next(f for f in self.rows.profile.folders if f.kind == item.kind)
        noted = self.comparison.items.get(f"{folder.noted}/{item.id.partition('/')[2]}")
        if noted is not None and noted.goes_home:
            yield Need(item.id, noted.id, "it notes how far this was updated")
        name = item.id.partition("/")[2].replace("-", "_")
        for other in self.comparison.items.values():
            if other.schema and other.change == "new" and other.schema[0].side is self.rows.source:
                step = other.schema[0]
                full = step.table if step.what == "table" else f"{step.table}.{step.name}"
                if step.what not in NAMED and any(fnmatchcase(full, p.replace("{name}", name)) for p in folder.owns):
                    yield Need(item.id, other.id, f"the {step.what} comes with it")


def _names(r: Reference, value: Any) -> Iterator[str]:
    if isinstance(value, StructuredValue):
        pattern = r.path or ()
        for path, leaf in leaves(value.data):
            if isinstance(leaf, str) and (fits(pattern, path) or not path):
                yield leaf
    elif isinstance(value, str):
        yield value.strip('"')  # a setting may be JSON text
    elif isinstance(value, list):
        yield from (v for v in value if isinstance(v, str))


def _texts(value: Any) -> Iterator[str]:
    if isinstance(value, StructuredValue):
        yield from (leaf for _, leaf in leaves(value.data) if isinstance(leaf, str))
    elif isinstance(value, str):
        yield value


def _where(write: RowWrite, column: str) -> str:
    """Where in an item a reference stands, for people."""
    source = write.state.source or {}
    name = source.get("name")
    return f"{name}" if column == "value" and isinstance(name, str) else f"its {column}"
