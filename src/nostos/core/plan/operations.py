"""A merge as a list of operations: plain data that can be printed, tested and journaled."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import field, replace
from typing import Any, TypeVar

from nostos.core.anchor.names import RowName
from nostos.core.compare.field_merge import Standing
from nostos.core.compare.file_changes import FileState
from nostos.core.compare.items import TRAVELS, Comparison, Item, SchemaStep
from nostos.core.compare.portable import named_rows
from nostos.core.compare.row_states import Rows, RowState
from nostos.core.database.schema import Key, Row
from nostos.core.files.entry import FileEntry, digest_of
from nostos.core.plan import conditions
from nostos.core.plan.conditions import Condition
from nostos.core.plan.needs import Needs
from nostos.core.plan.row_writes import WriteAction, row_writes
from nostos.core.plan.selection import Selection
from nostos.core.records import dataclass
from nostos.core.values.structures import builtins

_AS_OWNER = 0o6000  # rights of a file: set-user-id, set-group-id


T = TypeVar("T")
C = TypeVar("C", bound=Condition)


@dataclass(frozen=True)
class SchemaOperation:
    """Add, change or drop a table, a column or an index, as staging did."""

    item: str
    step: SchemaStep


@dataclass(frozen=True)
class InsertRow:
    """Add a row under a key that live gives out, or under `key`. name: its canonical key. values: portable. level: one
    more than of any new row that it points at."""

    item: str
    table: str
    name: Key
    values: Mapping[str, Any]
    key: Key | None = None
    level: int = 0


@dataclass(frozen=True)
class UpdateRow:
    """Set columns of a live row that must still be as `before` says. values: portable."""

    item: str
    table: str
    key: Key
    values: Mapping[str, Any]
    before: Row


@dataclass(frozen=True)
class RemoveRow:
    """Remove a live row that must still be as `before` says."""

    item: str
    table: str
    key: Key
    before: Row


@dataclass(frozen=True)
class PutFile:
    """Put staging's file in place of live's, which must still be as `before` says (None: not there). content: both
    sides' lines, merged, where live changed it too."""

    item: str
    path: str
    entry: FileEntry
    before: FileEntry | None
    content: bytes | None = None


@dataclass(frozen=True)
class RemoveFile:
    """A file or a link goes. before: what it was when it was compared."""

    item: str
    path: str
    before: FileEntry


@dataclass(frozen=True)
class SwitchFolder:
    """Put a folder in place as one: live's with these files put and removed."""

    item: str
    path: str
    puts: tuple[PutFile, ...]
    removals: tuple[RemoveFile, ...]


Operation = SchemaOperation | InsertRow | UpdateRow | RemoveRow | PutFile | RemoveFile | SwitchFolder


def as_data(operation: Operation) -> dict[str, Any]:
    """An operation as JSON-like data, with its kind."""
    return {"operation": type(operation).__name__, **builtins(operation)}


@dataclass(frozen=True)
class Plan:
    """What a merge will do: operations in order; what must be true when they are carried out; the rows and files whose
    ancestor it settles."""

    selection: Selection
    operations: tuple[Operation, ...]
    conditions: tuple[Condition, ...] = ()
    settles: tuple[RowState, ...] = ()
    settled_files: tuple[FileState, ...] = ()
    needs: Needs = field(default_factory=dict)

    def of(self, *kinds: type) -> list[Any]:
        """The operations of these classes, in the plan's order."""
        return [o for o in self.operations if isinstance(o, kinds)]

    def about(self, kind: type[C]) -> list[C]:
        """The conditions of one kind."""
        return [c for c in self.conditions if isinstance(c, kind)]


def plan(comparison: Comparison, needs: Needs, selection: Selection) -> Plan:
    """The operations that bring a selection home: schema, then rows to remove, insert and update, then files."""
    rows = comparison.rows
    schema: list[Operation] = []
    removes: list[tuple[RowName, dict[RowName, int], RemoveRow]] = []
    inserts: list[tuple[RowName, dict[RowName, int], InsertRow]] = []
    updates: list[UpdateRow] = []
    files: list[Operation] = []
    settles: list[RowState] = []
    settled_files: list[FileState] = []
    for item in selection.items:
        schema.extend(SchemaOperation(item.id, s) for s in item.schema)
        for write in row_writes(rows, item):
            state = write.state
            settles.append(state)
            if write.action is WriteAction.INSERT:
                insert = InsertRow(item.id, state.table, state.name, write.values,
                                   state.source_key if rows.keep_keys or state.table in rows.as_numbered else None)
                inserts.append((state.id, _points_at(rows, state.table, write.values), insert))
                continue
            assert state.target_key is not None and state.target_raw is not None
            if write.action is WriteAction.REMOVE:
                remove = RemoveRow(item.id, state.table, state.target_key, state.target_raw)
                removes.append((state.id, _points_at(rows, state.table, state.target or {}), remove))
            else:
                updates.append(UpdateRow(item.id, state.table, state.target_key, write.values, state.target_raw))
        going = [f for f in item.files if f.standing in TRAVELS]
        settled_files.extend(going)
        puts = tuple(_put(item, f) for f in going if f.source is not None)
        removals = tuple(RemoveFile(item.id, f.path, f.target) for f in going
                         if f.source is None and f.target is not None)
        if item.folder and going:
            files.append(SwitchFolder(item.id, item.folder, puts, removals))
        else:
            files.extend([*puts, *removals])
    schema.sort(key=lambda o: ("table", "column", "index", "constraint").index(o.step.what))  # type: ignore[union-attr]
    gone = [o for _, o in _parents_first(removes)]
    new = [replace(o, level=level) for level, o in _parents_first(inserts)]
    operations = (*schema, *reversed(gone), *new, *updates, *files)
    return Plan(selection, operations, tuple(_conditions(rows, operations)), tuple(settles), tuple(settled_files),
                needs)


def _conditions(rows: Rows, operations: Iterable[Operation]) -> Iterator[conditions.Condition]:
    """What each operation rests on."""
    for o in operations:
        if isinstance(o, SchemaOperation):
            yield from conditions.of_schema(o.item, o.step.action, o.step.what, o.step.table, o.step.name)
        elif isinstance(o, InsertRow):
            yield from conditions.pointed_at(rows, o.item, o.table, o.values)
            yield from conditions.named_alone(rows, o.item, o.table, o.name, o.values)
        elif isinstance(o, UpdateRow):
            yield conditions.as_seen(rows, o.item, o.table, o.key, o.before, o.values)
            yield from conditions.pointed_at(rows, o.item, o.table, o.values)
            yield from conditions.named_alone(rows, o.item, o.table, o.key, o.values)
        elif isinstance(o, RemoveRow):
            yield conditions.as_seen(rows, o.item, o.table, o.key, o.before, o.before)
            yield conditions.NothingPointsAt(o.item, o.table, o.key)
        else:
            yield from files_as_seen(o)


def files_as_seen(operation: PutFile | RemoveFile | SwitchFolder) -> Iterator[conditions.FileAs]:
    """Files, before anything is laid down in their place."""
    for change in changes_of(operation):
        yield conditions.FileAs(change.item, change.path, change.before)


def _put(item: Item, file: FileState) -> PutFile:
    assert file.source is not None
    merged = file.merged if file.standing is Standing.BLENDED else None
    entry = replace(file.source, mode=travelling(file.source, file.target))
    if merged is not None:
        entry = replace(entry, size=len(merged), digest=digest_of(merged))
    return PutFile(item.id, file.path, entry, file.target, merged)


def travelling(entry: FileEntry, target_entry: FileEntry | None) -> int:
    """The rights that a file is laid down with: those that let whoever runs it be its owner, or of its group, do not
    travel, unless the file that it replaces has them. Of a folder its group may go on to what is made in it."""
    mode = 0 if target_entry is None or target_entry.kind != entry.kind else target_entry.mode & _AS_OWNER
    passing = _AS_OWNER & 0o2000 if entry.kind == "folder" else 0
    return entry.mode & ~_AS_OWNER | entry.mode & (mode | passing)


_AT_ALL, _DECLARED, _KEY = 1, 2, 3  # how much a row must be there before another points at it


def _points_at(rows: Rows, table: str, values: Mapping[str, Any]) -> dict[RowName, int]:
    """The rows that a row's values point at, by id, and by declared keys of other kinds; and how much each must be
    there first."""
    at = rows.table(table)
    declared = {c for fk in at.foreign_keys for c in fk.columns}
    points: dict[RowName, int] = {}
    for name, v in values.items():
        column = at.column(name)
        grade = _KEY if name in at.key else _DECLARED if (
            name in declared and column is not None and not column.nullable) else _AT_ALL
        for t, n in named_rows(v):
            points[t, (n,)] = max(grade, points.get((t, (n,)), 0))
    for fk in at.foreign_keys:
        target = rows.target_tables.get(fk.target) or rows.source_tables.get(fk.target)
        if target is not None and not target.surrogate:
            values_there = dict(zip(fk.target_columns, (values.get(c) for c in fk.columns), strict=False))
            points[fk.target, tuple(values_there.get(k) for k in target.key)] = _KEY
    return points


def _parents_first(entries: list[tuple[RowName, dict[RowName, int], T]]) -> list[tuple[int, T]]:
    """Rows after the rows that they point at, and otherwise by tables, so that many are written at once. Where rows
    point at one another in a circle, what matters least is what is not there yet. entries: name, targets, payload.
    Returns the payloads, each with how deep it rests on others."""
    payloads = {name: payload for name, _, payload in entries}
    depths = _depths({name: targets for name, targets, _ in entries}, _AT_ALL)
    return [(depths[name], payloads[name]) for name in sorted(payloads, key=lambda n: (depths[n], n[0]))]


def _depths(targets: Mapping[RowName, Mapping[RowName, int]], least: int) -> dict[RowName, int]:
    """How deep each row rests on others, by what is at least of this grade."""
    edges = {name: sorted((t for t, grade in some.items() if grade >= least and t in targets and t != name), key=repr)
             for name, some in targets.items()}
    depths: dict[RowName, int] = {}
    for circle in _circles(edges):
        members = {*circle}
        base = 1 + max((depths[t] for name in circle for t in edges[name] if t not in members), default=0)
        inside = {} if len(circle) == 1 or least == _KEY else _depths({n: targets[n] for n in circle}, least + 1)
        depths.update((name, base + inside.get(name, 0)) for name in circle)
    return depths


def _circles(edges: Mapping[RowName, Sequence[RowName]]) -> Iterator[list[RowName]]:
    """The strongly connected components of a graph, each after those that it leads to (R. Tarjan, *Depth-first search
    and linear graph algorithms*, 1972; without recursion, for a chain of rows may be long)."""
    circles: dict[RowName, int] = {}
    lowest: dict[RowName, int] = {}
    open_: dict[RowName, None] = {}
    for start in edges:
        stack: list[tuple[RowName, int]] = [(start, 0)] if start not in circles else []
        while stack:
            name, at = stack.pop()
            if at == 0:
                circles[name] = lowest[name] = len(circles)
                open_[name] = None
            elif (before := edges[name][at - 1]) in open_:
                lowest[name] = min(lowest[name], lowest[before])
            if at < len(edges[name]):
                stack.append((name, at + 1))
                if edges[name][at] not in circles:
                    stack.append((edges[name][at], 0))
            elif lowest[name] == circles[name]:
                circle: list[RowName] = []
                while not circle or circle[-1] != name:
                    circle.append(open_.popitem()[0])
                yield circle


def changes_of(operation: PutFile | RemoveFile | SwitchFolder) -> tuple[PutFile | RemoveFile, ...]:
    """The files that an operation puts and removes."""
    if isinstance(operation, SwitchFolder):
        return (*operation.puts, *operation.removals)
    return (operation,)


def laid_down(operation: PutFile | RemoveFile | SwitchFolder) -> int:
    """Bytes of the files that an operation puts."""
    return sum(c.entry.size for c in changes_of(operation) if isinstance(c, PutFile))
