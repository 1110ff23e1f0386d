"""A merge as a list of operations: plain data that can be printed, tested and journaled."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from nostos.core.compare import Rows, RowState
from nostos.core.database.schema import Key, Row
from nostos.core.fields import Standing
from nostos.core.files import FileState
from nostos.core.items import Comparison, SchemaStep
from nostos.core.needs import Needs
from nostos.core.selection import Selection
from nostos.core.tree.entries import Entry
from nostos.core.writes import row_writes


@dataclass(frozen=True)
class SchemaOperation:
    """Add a table, a column or an index that staging has."""

    item: str
    step: SchemaStep


@dataclass(frozen=True)
class InsertRow:
    """Add a row under a key that live gives out. name: its canonical key. values: portable."""

    item: str
    table: str
    name: Key
    values: Mapping[str, Any]


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
    """Put staging's file in place of live's, which must still be as `before` says (None: not there)."""

    item: str
    path: str
    entry: Entry
    before: Entry | None


@dataclass(frozen=True)
class RemoveFile:
    item: str
    path: str
    before: Entry


@dataclass(frozen=True)
class SwitchFolder:
    """Put a folder in place as one: live's with these files put and removed."""

    item: str
    path: str
    puts: tuple[PutFile, ...]
    removals: tuple[RemoveFile, ...]


Operation = SchemaOperation | InsertRow | UpdateRow | RemoveRow | PutFile | RemoveFile | SwitchFolder


@dataclass(frozen=True)
class Plan:
    """What a merge will do: operations in order; the rows and files whose ancestor it settles."""

    selection: Selection
    operations: tuple[Operation, ...]
    settles: tuple[RowState, ...] = ()
    settled_files: tuple[FileState, ...] = ()
    needs: Needs = field(default_factory=dict)

    def of(self, *kinds: type) -> list[Any]:
        return [o for o in self.operations if isinstance(o, kinds)]


def plan(comparison: Comparison, needs: Needs, selection: Selection) -> Plan:
    """The operations that bring a selection home: schema, then rows to remove, insert and update, then files."""
    rows = comparison.rows
    schema: list[Operation] = []
    removes: list[RemoveRow] = []
    inserts: list[InsertRow] = []
    updates: list[UpdateRow] = []
    files: list[Operation] = []
    settles: list[RowState] = []
    settled_files: list[FileState] = []
    for item in selection.items:
        schema.extend(SchemaOperation(item.id, s) for s in item.schema)
        for write in row_writes(rows, item):
            state = write.state
            settles.append(state)
            if write.action == "insert":
                inserts.append(InsertRow(item.id, state.table, state.name, write.values))
                continue
            assert state.live_key is not None and state.live_raw is not None
            if write.action == "remove":
                removes.append(RemoveRow(item.id, state.table, state.live_key, state.live_raw))
            else:
                updates.append(UpdateRow(item.id, state.table, state.live_key, write.values, state.live_raw))
        going = [f for f in item.files if f.standing is Standing.HOMEWARD]
        settled_files.extend(going)
        puts = tuple(PutFile(item.id, f.path, f.staging, f.live) for f in going if f.staging is not None)
        removals = tuple(RemoveFile(item.id, f.path, f.live) for f in going
                         if f.staging is None and f.live is not None)
        if item.folder and going:
            files.append(SwitchFolder(item.id, item.folder, puts, removals))
        else:
            files.extend([*puts, *removals])
    schema.sort(key=lambda o: ("table", "column", "index").index(o.step.what))  # type: ignore[union-attr]
    operations = (*schema, *_children_first(rows, removes), *_parents_first(inserts), *updates, *files)
    return Plan(selection, operations, tuple(settles), tuple(settled_files), needs)


def _children_first(rows: Rows, removes: list[RemoveRow]) -> list[RemoveRow]:
    """Rows that are part of others go before these."""
    return sorted(removes, key=lambda o: rows.profile.child_of(o.table) is None)


def _parents_first(inserts: list[InsertRow]) -> list[InsertRow]:
    """New rows after the new rows that they point at, as far as there is no cycle."""
    from nostos.core.portable import named_rows

    by_name = {(o.table, o.name): o for o in inserts}
    done: dict[tuple[str, Key], InsertRow] = {}
    for start in inserts:
        # Depth first without recursion: a chain of new parents may be long.
        stack: list[tuple[InsertRow, bool]] = [(start, False)]
        entered: set[tuple[str, Key]] = set()
        while stack:
            operation, left = stack.pop()
            mark = (operation.table, operation.name)
            if left:
                done.setdefault(mark, operation)
            elif mark not in done and mark not in entered:
                entered.add(mark)
                stack.append((operation, True))
                for value in operation.values.values():
                    for table, name in sorted(named_rows(value)):
                        target = by_name.get((table, (name,)))
                        if target is not None:
                            stack.append((target, False))
    return list(done.values())
