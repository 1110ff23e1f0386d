"""What one side changed in its schema: tables, columns, indexes and constraints gained, dropped or defined anew."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import replace

from nostos.core.anchor.alike import ALIKE, Alike
from nostos.core.anchor.names import Side
from nostos.core.anchor.store import Anchor
from nostos.core.compare.field_merge import FieldMerge, Standing
from nostos.core.compare.items import Field, Item, SchemaAction, SchemaStep
from nostos.core.compare.row_states import Rows
from nostos.core.database.schema import NAMED, Column, definition
from nostos.core.patterns import matches
from nostos.core.profiles.compared import OWN_TABLES
from nostos.core.profiles.policies import PLAIN
from nostos.core.records import dataclass
from nostos.core.values.merging import ABSENT, same
from nostos.core.values.tokens import OPEN


@dataclass(frozen=True)
class _Versions:
    """Something in the three schemas; None where it is not."""

    base: str | None
    live: str | None
    staging: str | None


def _versions(known: Alike | None, base: str | None, live: str | None, staging: str | None) -> _Versions:
    return _Versions(base, live, known.live if known is not None and staging == known.staging else staging)


def schema_items(rows: Rows, anchor: Anchor | None = None) -> Iterator[Item]:
    """Every table, column, index and constraint that is not defined alike on live, in staging and at the anchor."""
    live, staging = ({n: t for n, t in tables.items() if not matches(n, (*OWN_TABLES, *rows.profile.volatile))}
                     for tables in (rows.target_tables, rows.source_tables))
    fact = anchor.fact(ALIKE) if anchor is not None else None
    known = {place: Alike(*both) for place, both in (fact or {}).items()}
    for name in sorted(staging.keys() | live.keys()):
        mine, theirs, before = staging.get(name), live.get(name), rows.anchor_tables.get(name)
        if mine is None or theirs is None:
            versions = _Versions(*(t.ddl if t else None for t in (before, theirs, mine)))
            items = _item(f"table/{name}", "table", name, name, versions, rows)
            if items is not None:
                yield items
            continue
        for column in sorted({*mine.names, *theirs.names}):
            columns = [t.column(column) if t else None for t in (before, theirs, mine)]
            versions = _versions(known.get(f"column/{name}.{column}"), *(definition(c) if c else None for c in columns))
            items = _item(f"column/{name}.{column}", "column", name, column, versions, rows, columns)
            if items is not None:
                yield _with_filled(items, rows, anchor, columns)
        for what in NAMED:
            for part in sorted({*mine.named(what), *theirs.named(what)}):
                versions = _versions(known.get(f"{what}/{name}.{part}"), *(
                    t.named(what).get(part) if t else None for t in (before, theirs, mine)))
                called = part if what == "index" else f"{name}.{part}"
                items = _item(f"{what}/{called}", what, name, part, versions, rows)
                if items is not None:
                    yield items


def _with_filled(item: Item, rows: Rows, anchor: Anchor | None, columns: Sequence[Column | None]) -> Item:
    """The item of a new column, with what the side that added it has put into all rows that were there: rows that the
    other side gained since are to have it, too."""
    step = item.schema[0]
    column = columns[1] if step.side is Side.LIVE else columns[2]
    if anchor is None or step.action is not SchemaAction.ADD or column is None or column.nullable or (
            column.default is not None or column.generated):
        return item
    blocks = anchor.blocks(step.side, step.table).values()
    if not blocks or any(block is None for block in blocks):
        return item
    states = [s for s in rows.states.values() if s.table == step.table and s.base is not None]
    sides = [s.target if step.side is Side.LIVE else s.source for s in states]
    values = [v for form in sides if form is not None and isinstance(v := form.get(column.name), str | int | float)]
    count = sum(block.count for block in blocks if block is not None) - sum(form is None for form in sides)
    one, times = Counter(values).most_common(1)[0] if values else (None, 0)
    # Some may have been edited since. One row alone says nothing: it may be an edit.
    if times < 2 or 2 * times <= count or OPEN in str(one):
        return item
    return replace(item, schema=(replace(step, filled=one),))


def _item(name: str, what: str, table: str, part: str, v: _Versions, rows: Rows,
          columns: list[Column | None] | None = None) -> Item | None:
    if v.live == v.staging:
        return None
    standing = Standing.CLASH  # both changed it, each in its own way
    if v.live == v.base:
        standing = Standing.HOMEWARD
    elif v.staging == v.base:
        standing = Standing.KEPT
    side = Side.STAGING if standing is not Standing.KEPT else Side.LIVE
    now = v.staging if side is Side.STAGING else v.live
    other = v.live if side is Side.STAGING else v.staging
    action = (SchemaAction.DROP if now is None else SchemaAction.ADD if other is None else SchemaAction.CHANGE)
    reason = ""
    careful = action is SchemaAction.DROP
    if action is SchemaAction.CHANGE and columns is not None and standing is Standing.HOMEWARD:
        old, new = columns[1], columns[2]
        assert old is not None and new is not None
        careful = not rows.engine.widens(old, new)
    if action is SchemaAction.DROP and standing is Standing.HOMEWARD and _written_since(rows, what, table, part):
        reason, standing = "removed in staging, but live has written to it since", Standing.CLASH
    step = SchemaStep(what, table, part, side, now or v.base or "", action, other or "")
    base, live, staging = (ABSENT if x is None else x for x in (v.base, v.live, v.staging))
    merged = FieldMerge((), PLAIN, base, live, staging, standing,
                    staging if standing is Standing.HOMEWARD else live)
    change = {SchemaAction.DROP: "removed", SchemaAction.ADD: "new", SchemaAction.CHANGE: "edited"}[action]
    title = f"{part} of {table}" if what != "table" else ""
    return Item(name, what, title, change, standing, (Field("definition", merged),),
                schema=(step,), reason=reason, careful=careful)


def _written_since(rows: Rows, what: str, table: str, part: str) -> bool:
    """Whether live wrote, since the anchor, into the table or the column that staging dropped."""
    target_table = rows.target_tables.get(table)
    column = target_table.column(part) if target_table and what == "column" else None
    for state in rows.states.values():
        if what in NAMED or state.table != table or Side.LIVE not in state.moved or state.target is None:
            continue
        if column is None:
            return True
        was = rows.engine.default_value(column) if state.base is None else state.base.get(part)
        if state.target.get(part) is not None and not same(was, state.target.get(part)):
            return True
    return False
