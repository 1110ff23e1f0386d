"""Declared foreign keys, checked by the merge itself, where the engine would read whole tables to check a removal.

An engine that lets a key be declared with no index to find its rows by reads the child's table for every parent that
goes, inside the transaction. The merge has looked there already, in one pass before it, and looks again at what is
newer (see `verify.Removals`). So here it does the rest of what the engine would: every row it writes must point at
something.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from nostos.core.apply.rows.changed import RowChange
from nostos.core.database.protocol import Database
from nostos.core.database.schema import Key, Row, Table
from nostos.core.errors import MergeRefused
from nostos.core.plan.operations import InsertRow, Plan, RemoveRow, SchemaOperation, UpdateRow


def may_check_itself(plan: Plan, database: Database, compared: Mapping[str, Table], cleared: Iterable[str]) -> bool:
    """Whether a merge can take the engine's checks upon itself, and gains by it.

    compared: the tables whose rows the comparison knows. cleared: caches that it empties. It cannot where the engine
    does more than check: where a trigger acts, where rows that no comparison knows would be removed along, where a key
    is changed that others follow.
    """
    gone = {o.table for o in plan.of(RemoveRow)} | set(cleared)
    if not database.scans_for_children or not gone or plan.of(SchemaOperation):
        return False
    tables = database.tables()
    events: dict[str, set[str]] = {}
    for kind, event in ((RemoveRow, "DELETE"), (UpdateRow, "UPDATE"), (InsertRow, "INSERT")):
        for o in plan.of(kind):
            events.setdefault(o.table, set()).add(event)
    if database.side_effects(events):
        return False
    changed = {(o.table, c) for o in plan.of(UpdateRow) for c in o.values}
    scans = False
    for table in tables.values():
        for fk in table.foreign_keys:
            if changed & {(fk.target, c) for c in fk.target_columns}:
                return False
            if fk.target in gone:
                if table.name not in compared:
                    return False
                scans = scans or not table.indexed(fk.columns[0])
    return scans


def check_parents(changed: Iterable[RowChange], database: Database, tables: Mapping[str, Table]) -> None:
    """Raises MergeRefused when a row that was written points, by a key it did not have before, at nothing."""
    seen: set[object] = set()
    for one in changed:
        for fk in tables[one.table].foreign_keys if one.after is not None else ():
            values = _pointing(one.after, fk.columns)
            target = tables.get(fk.target)
            if None in values or target is None or (one.before and _pointing(one.before, fk.columns) == values):
                continue
            if (fk, values) in seen:
                continue
            seen.add((fk, values))
            if not database.find(target, dict(zip(fk.target_columns, values, strict=True))):
                values_text = ", ".join(f"{c} {v!r}" for c, v in zip(fk.columns, values, strict=True))
                raise MergeRefused(f"A row of {one.table} would point at {fk.target} by its {values_text}, and "
                                   "there is none.",
                                   left="Everything was taken back.",
                                   next_step="Compare again; if it stays so, leave the item out.")


def _pointing(row: Row | None, columns: tuple[str, ...]) -> Key:
    return tuple((row or {}).get(c) for c in columns)
