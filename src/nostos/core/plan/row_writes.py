"""What taking an item would write to live: row by row, values in portable form."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from enum import StrEnum
from typing import Any

from nostos.core.anchor.names import RowName
from nostos.core.compare.field_merge import Role
from nostos.core.compare.items import TRAVELS, Field, Item
from nostos.core.compare.portable import Portable, named_rows, plain
from nostos.core.compare.row_states import Rows, RowState
from nostos.core.records import dataclass
from nostos.core.values import references as refs
from nostos.core.values import structures
from nostos.core.values.merging import ABSENT, same
from nostos.core.values.structures import StructuredValue


class WriteAction(StrEnum):
    INSERT = "insert"
    UPDATE = "update"
    REMOVE = "remove"


@dataclass(frozen=True)
class RowWrite:
    """One row to insert, update or remove. values: column -> portable value (empty for a removal)."""

    item: str
    action: WriteAction
    state: RowState
    values: Mapping[str, Any] = field(default_factory=dict)

    @property
    def named(self) -> set[refs.Named]:
        """The rows that what is written points at, by id."""
        return {n for v in self.values.values() for n in named_rows(v)}


def row_writes(rows: Rows, item: Item) -> list[RowWrite]:
    """The rows that taking an item changes on live, in no particular order."""
    known = rows.writes.get(item.id)
    if known is not None and known[0] is item:
        return list(known[1])
    writes = _row_writes(rows, item)
    rows.writes[item.id] = (item, writes)
    return list(writes)


def _row_writes(rows: Rows, item: Item) -> list[RowWrite]:
    if not item.going:
        return []
    by_row: dict[RowName, list[Field]] = {}
    for f in item.fields:
        if f.row is not None:
            by_row.setdefault(f.row, []).append(f)
    writes = []
    for state in item.rows:
        write = _row_write(rows, item, state, by_row.get(state.id, []))
        if write is not None:
            writes.append(write)
    return writes


def _row_write(rows: Rows, item: Item, state: RowState, fields: list[Field]) -> RowWrite | None:
    going = [f for f in fields if f.standing in TRAVELS]
    if state.source is None:
        whole = going and len(going) == len(fields) and state.target is not None
        return RowWrite(item.id, WriteAction.REMOVE, state) if whole else None
    if state.target is None:
        # What the target had removed comes back only where that was decided.
        back = any(f.merged.decided is Role.SOURCE for f in fields)
        if not fields or (state.base is not None and not back):
            return None
        return RowWrite(item.id, WriteAction.INSERT, state, _inserted(rows, state, state.source))
    values: Portable = {}
    for f in going:
        if f.merged.path or isinstance(state.target.get(f.column), StructuredValue):
            values[f.column] = _structured(values.get(f.column, state.target.get(f.column)), f, state)
        elif f.column and f.merged.result is not ABSENT:
            values[f.column] = f.merged.result
    return RowWrite(item.id, WriteAction.UPDATE, state, values) if values else None


def _structured(target: Any, f: Field, state: RowState) -> Any:
    """Live's structure with one key set, or as a whole where live has none."""
    result = f.merged.result
    if not isinstance(target, StructuredValue):
        return result
    if isinstance(result, StructuredValue):
        if not f.merged.path and (result.rigid or not isinstance(result.data, dict | list)):
            return result
        result = result if result.rigid else result.data
    if not f.merged.path and not isinstance(result, dict | list):
        return result
    return StructuredValue(structures.put(target.data, f.merged.path, result, ABSENT), target.style)


def _inserted(rows: Rows, state: RowState, source: Portable) -> Portable:
    """A new row's values: all but the key that live's database gives out and what is merely staging's own."""
    table = rows.table(state.table)
    raw = {**plain(source), **state.joined}
    values: Portable = {}
    for column, value in source.items():
        declared = table.column(column)
        if (table.surrogate and column in table.key) or (declared is not None and declared.generated):
            continue
        policy = rows.profile.policy(state.table, raw, column)
        if _stays_behind(rows, state.table, column, value):
            continue
        optional = declared is None or declared.nullable or declared.default is not None
        if not policy.travels and optional:
            continue
        for path, inner in rows.profile.path_policies(state.table, raw, column).items():
            if inner.sides_own and isinstance(value, StructuredValue):
                value = StructuredValue(structures.put(value.data, path, ABSENT, ABSENT), value.style)
        values[column] = value
    return values


def _stays_behind(rows: Rows, table: str, column: str, value: Any) -> bool:
    """Whether a column that live lacks holds no more than its default, so that nothing is lost without it."""
    target_table = rows.target_tables.get(table)
    gained = rows.source_tables[table].column(column) if table in rows.source_tables else None
    return (target_table is not None and target_table.column(column) is None and gained is not None
            and same(value, rows.engine.default_value(gained)))
