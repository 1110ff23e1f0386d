"""A comparison with its roles changed: what live gained as what is to go into staging.

A comparison is made as for a merge: live is its target, staging its source. A refresh is a merge with the roles
changed, and everything after the comparison (needs, plan, commit, ledger) speaks of target and source alone.
"""

from __future__ import annotations

from copy import copy
from dataclasses import replace

from nostos.core.anchor.names import RowName
from nostos.core.compare.field_merge import FieldMerge, Role, Standing
from nostos.core.compare.file_changes import FileState
from nostos.core.compare.items import Comparison, Field, Item
from nostos.core.compare.row_states import Rows, RowState
from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row

_EXCHANGED = {Standing.HOMEWARD: Standing.KEPT, Standing.KEPT: Standing.HOMEWARD}
_OTHER = {Role.TARGET: Role.SOURCE, Role.SOURCE: Role.TARGET, None: None}


def exchanged(comparison: Comparison, source_db: Database) -> Comparison:
    """The comparison with target and source changed for each other. source_db: of what has been the source, for rows
    that were not fetched yet, since it left them alone."""
    rows = comparison.rows
    raw = _unfetched(rows, source_db)
    states = {name: _state(s, raw) for name, s in rows.states.items()}
    keys = copy(rows.source_keys)
    keys.absent = {(s.table, str(s.name[0])) for s in states.values() if s.target is None}
    other = replace(
        rows, target_tables=rows.source_tables, source_tables=rows.target_tables, states=states, target_keys=keys,
        source_keys=rows.target_keys,
        target_urls=rows.to_portable[rows.source].urls, target_prefix=rows.source_prefix,
        source_prefix=rows.target_prefix, source=rows.target, as_numbered=set(), masks=rows.mask is not None)
    items = {i.id: _item(i, states) for i in comparison.items.values()}
    return Comparison(items, other, comparison.owner, comparison.files)


def _unfetched(rows: Rows, source_db: Database) -> dict[RowName, Row]:
    wanted: dict[str, list[RowState]] = {}
    for state in rows.states.values():
        if state.source is not None and state.source_raw is None and state.source_key is not None:
            wanted.setdefault(state.table, []).append(state)
    fetched: dict[RowName, Row] = {}
    for name, states in wanted.items():
        table = rows.source_tables[name]
        by_key = {s.source_key: s for s in states}
        for row in source_db.fetch_many(table, [s.source_key for s in states if s.source_key is not None]):
            fetched[by_key[table.key_of(row)].id] = dict(row)
    return fetched


def _state(state: RowState, raw: dict[RowName, Row]) -> RowState:
    # A row born on live goes by live's number, which says nothing of staging's.
    exists = state.source is not None or state.base is not None
    return replace(
        state, target=state.source, source=state.target, target_raw=state.source_raw or raw.get(state.id),
        source_raw=state.target_raw,
        target_key=state.source_key if exists else None, source_key=state.target_key,
        target_digest=state.source_digest, source_digest=state.target_digest)


def _item(item: Item, states: dict[RowName, RowState]) -> Item:
    return replace(
        item, standing=_EXCHANGED.get(item.standing, item.standing), visitors=False,
        fields=tuple(_field(f) for f in item.fields), rows=tuple(states[r.id] for r in item.rows),
        files=tuple(_file(f) for f in item.files))


def _field(field: Field) -> Field:
    m = field.merged
    standing = _EXCHANGED.get(m.standing, m.standing)
    result = m.result if standing in (Standing.BLENDED, Standing.SETTLED) else (
        m.target if standing is Standing.HOMEWARD else m.source)
    return replace(field, merged=FieldMerge(m.path, m.policy, m.base, m.source, m.target, standing, result,
                                            _OTHER[m.decided]))


def _file(file: FileState) -> FileState:
    return replace(file, target=file.source, source=file.target, decided=_OTHER[file.decided])
