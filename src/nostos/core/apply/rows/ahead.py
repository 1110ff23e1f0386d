"""Edits that are worked out before the transaction, so that visitors wait only while they are looked at and written.

Of a row that is edited everything is known beforehand where what is written hangs on nothing that the transaction finds
out: it points at no row that is added, stands in no tree, counts nothing that the merge adds, and no trigger acts on
it. Such rows are read without a lock, what they are to be is set aside in the server (`Draft`), and read back there, as
the server has it. In the transaction one statement holds the rows and adds their digests up; if these are as they were
read, another writes them, and they are added up again. Else these rows are locked, looked at and written like all
others.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence

from nostos.core.anchor.names import Side
from nostos.core.apply.rows.changed import RowChange
from nostos.core.apply.verify import see_to
from nostos.core.compare.row_states import Rows
from nostos.core.database.protocol import Block, Database, Draft
from nostos.core.database.rows.digests import add_digests
from nostos.core.database.rows.row_bytes import row_form
from nostos.core.database.schema import Key, Row, Table
from nostos.core.plan.conditions import RowAs
from nostos.core.plan.operations import InsertRow, Plan, RemoveRow, SchemaOperation, UpdateRow
from nostos.core.records import dataclass
from nostos.core.values import references as refs

_WORTH = 50  # edits of one table, from which on it is


@dataclass(frozen=True)
class DraftedTable:
    """The edits of one table that are worked out. left: what its rows add up to as they are to be; as they were read,
    the draft's `first` says. changes: the rows before and after. written: by key, the columns that are set."""

    table: str
    draft: Draft
    left: Block
    changes: Sequence[RowChange]
    written: Mapping[Key, frozenset[str]]


def may_be_drafted(plan: Plan, rows: Rows, target_db: Database, tables: Mapping[str, Table]) -> dict[
        str, list[UpdateRow]]:
    """The edits, by table, that hang on nothing that the transaction finds out, of tables with many of them."""
    profile = rows.profile
    if plan.of(SchemaOperation):
        return {}
    touched = {o.table for o in plan.of(InsertRow, UpdateRow, RemoveRow)}
    apart = {d.table for d in profile.derived if d.counts in touched}
    new = {(o.table, str(o.name[0])) for o in plan.of(InsertRow)}
    often = Counter((o.table, o.key) for o in plan.of(UpdateRow))
    by_table: dict[str, list[UpdateRow]] = {}
    for o in plan.of(UpdateRow):
        table = tables[o.table]
        if not (o.table in apart or not table.key or profile.placed_in(o.table) or often[o.table, o.key] > 1
                or set(table.key) & set(o.values)
                or any(named in new for value in o.values.values() for named in refs.inside(value))):
            by_table.setdefault(o.table, []).append(o)
    many = {name: some for name, some in by_table.items() if len(some) >= _WORTH}
    if many:  # few edits are not worth asking for
        events = dict.fromkeys(touched, ("INSERT", "UPDATE", "DELETE"))
        for name in target_db.triggered(events) | target_db.side_effects(events) | target_db.without_transactions():
            many.pop(name, None)
    return many


def drafted(plan: Plan, target_db: Database, tables: Mapping[str, Table], side: Side, wanted: Mapping[
        str, Sequence[UpdateRow]], values_of: Callable[[UpdateRow], Row]) -> Iterator[DraftedTable]:
    """Work edits out, outside a transaction. side: whose database it is. values_of: what an operation writes. Raises
    TargetMoved where a row is not as it was seen any more."""
    conditions: dict[str, list[RowAs]] = {}
    for one in plan.about(RowAs):
        conditions.setdefault(one.table, []).append(one)
    for name, operations in sorted(wanted.items()):
        table = tables[name]
        keys = [o.key for o in operations]
        now = {table.key_of(row): row for row in target_db.fetch_many(table, keys)}
        mine = set(keys)
        see_to((c for c in conditions.get(name, ()) if c.key in mine), tables, {
            (name, key): row for key, row in now.items()}, side)
        values = {o.key: values_of(o) for o in operations if o.key in now}
        columns = sorted({c for some in values.values() for c in some})
        if not columns or len(values) < len(mine):
            continue
        draft = target_db.drafted(table, columns, [
            (key, [some.get(c, now[key].get(c)) for c in columns]) for key, some in values.items()])
        if draft is None or draft.rows.keys() != values.keys():
            continue
        changes = [RowChange(name, key, now[key], {**now[key], **draft.rows[key]}) for key in values]
        # Else somebody is writing there, or the server adds up otherwise.
        if draft.first == _added_up(table, [c.before for c in changes]):
            yield DraftedTable(name, draft, _added_up(table, [c.after for c in changes]), changes,
                               {key: frozenset(some) for key, some in values.items()})


def _added_up(table: Table, rows: Sequence[Row | None]) -> Block:
    """What rows add up to, as the server would say it."""
    form = row_form(table, table.stored)
    return Block(len(rows), add_digests(0, (
        form.digest(form.write([row.get(c) for c in table.stored])) for row in rows if row is not None)))
