"""What is known of an item, and which layer said it: for people."""

from __future__ import annotations

from nostos.core.compare.gather import full
from nostos.core.compare.items import Comparison, Item


def known_of(comparison: Comparison, item: Item) -> tuple[str, ...]:
    """A line for each thing that is known of the columns that changed in an item, and of whose it is."""
    if comparison.sources is None:
        return ()
    lines: list[str] = []
    states = {r.id: r for r in item.rows}
    for field in item.fields:
        state = states.get(field.row) if field.row is not None else None
        if state is None or not field.column:
            continue
        for facts in comparison.sources.of(state.table, field.column, comparison.rows.profile, full(state)):
            lines.append(f"{state.table}.{field.column}: {facts}")
    table = item.root[0] if item.root else ""
    whose = comparison.sources.whose(item.kind, table, item.visitors)
    if whose:
        lines.append(f"{item.kind}: {'visitors' if item.visitors else 'editors'} make it; {whose}")
    return tuple(dict.fromkeys(lines))
