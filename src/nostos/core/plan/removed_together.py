"""What is removed only because something else is: rows that cannot be without a row that went, too."""

from __future__ import annotations

from collections.abc import Iterable

from nostos.core.compare.items import Comparison
from nostos.core.compare.row_states import Rows, RowState
from nostos.core.plan.row_writes import WriteAction, row_writes
from nostos.core.profiles.model import Profile
from nostos.core.values import references as refs


def removed_with(comparison: Comparison, names: Iterable[str]) -> dict[str, frozenset[str]]:
    """By item that would remove rows: the items of the rows that these cannot be without, and that were removed, too.
    Where such a row stays, what hangs on it stays. names: of the items that can go home."""
    rows = comparison.rows
    removed: dict[str, frozenset[str]] = {}
    for item in map(comparison.items.__getitem__, names):
        if not item.visitors:  # theirs goes only when it is named, anyhow
            owners = {owner for write in row_writes(rows, item) if write.action is WriteAction.REMOVE
                      for owner in _owners(comparison, rows, write.state)} - {item.id}
            if owners:
                removed[item.id] = frozenset(owners)
    return removed


def _owners(comparison: Comparison, rows: Rows, state: RowState) -> set[str]:
    table = rows.table(state.table)
    form = state.target or state.base or {}
    owners = set()
    for name, value in form.items():
        column = table.column(name)
        if column is None or column.nullable or name in table.key or not _is_key(rows.profile, state.table, name):
            continue
        for target, key in refs.inside(value):
            above = rows.states.get((target, (key,)))
            if above is not None and above.base is not None and above.source is None and above.target is not None:
                owners.add(comparison.owner.get(above.id, ""))
    return owners - {""}


def _is_key(profile: Profile, table: str, column: str) -> bool:
    return any(r.column == column and r.is_key and not r.weak and not r.outlives for r in profile.references_of(table))
