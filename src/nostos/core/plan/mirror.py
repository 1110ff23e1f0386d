"""A comparison seen from the other shore: what live gained as what is to go into staging.

Refresh is a merge with the roles changed. Everything after the comparison (needs, plan, commit, ledger) says "live" for
the site that is written and "staging" for the one that is read; mirrored, these are the other way round.
"""

from __future__ import annotations

import re
from copy import copy
from dataclasses import replace

from nostos.core.anchor.names import RowName, Side
from nostos.core.compare.field_merge import FieldMerge, Standing
from nostos.core.compare.file_changes import FileState
from nostos.core.compare.items import Comparison, Field, Item
from nostos.core.compare.row_states import Rows, RowState
from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row

_SIDES = re.compile(r"(?<!\w)'(?:[^'\\]|\\.)*'(?!\w)|(?<!\w)\"(?:[^\"\\]|\\.)*\"(?!\w)|"
                    r"(?i:(?<![\w~/.-])(?:on live|in staging|live|staging)(?![\w/-]))")
_SWAPPED = {Standing.HOMEWARD: Standing.KEPT, Standing.KEPT: Standing.HOMEWARD}


def mirrored(comparison: Comparison, staging_db: Database) -> Comparison:
    """The comparison with live and staging changed for each other. staging_db: for rows that staging left alone, which
    were not fetched yet."""
    rows = comparison.rows
    raw = _unfetched(rows, staging_db)
    states = {name: _state(s, raw) for name, s in rows.states.items()}
    keys = copy(rows.staging_keys)
    keys.absent = {(s.table, str(s.name[0])) for s in states.values() if s.live is None}
    turned = replace(
        rows, live_tables=rows.staging_tables, staging_tables=rows.live_tables, states=states, live_keys=keys,
        staging_keys=rows.live_keys, to_portable={s: rows.to_portable[s.other] for s in Side},
        live_urls=rows.to_portable[Side.STAGING].urls, live_prefix=rows.staging_prefix,
        staging_prefix=rows.live_prefix, source=rows.source.other, masks=rows.mask is not None)
    items = {i.id: _item(i, states) for i in comparison.items.values()}
    return Comparison(items, turned, comparison.owner, comparison.files)


def turned(said: str) -> str:
    """What was said of live, said of staging, and the other way round: for messages. What is quoted in them is a value,
    and stays."""
    def other(match: re.Match[str]) -> str:
        word = match.group(0)
        if word[0] in "'\"":
            return word
        swapped = {"live": "staging", "staging": "live", "on live": "in staging", "in staging": "on live"}[word.lower()]
        return swapped.capitalize() if word[0].isupper() else swapped

    return _SIDES.sub(other, said)


def _unfetched(rows: Rows, staging_db: Database) -> dict[RowName, Row]:
    wanted: dict[str, list[RowState]] = {}
    for state in rows.states.values():
        if state.staging is not None and state.staging_raw is None and state.staging_key is not None:
            wanted.setdefault(state.table, []).append(state)
    found: dict[RowName, Row] = {}
    for name, states in wanted.items():
        table = rows.staging_tables[name]
        by_key = {s.staging_key: s for s in states}
        for row in staging_db.fetch_many(table, [s.staging_key for s in states if s.staging_key is not None]):
            found[by_key[table.key_of(row)].id] = dict(row)
    return found


def _state(state: RowState, raw: dict[RowName, Row]) -> RowState:
    # A row born on live goes by live's number, which says nothing of staging's.
    there = state.staging is not None or state.base is not None
    return replace(
        state, live=state.staging, staging=state.live, live_raw=state.staging_raw or raw.get(state.id),
        staging_raw=state.live_raw, moved=frozenset(s.other for s in state.moved),
        live_key=state.staging_key if there else None,
        staging_key=state.live_key, stale=tuple((s.other, k) for s, k in state.stale),
        live_digest=state.staging_digest, staging_digest=state.live_digest)


def _item(item: Item, states: dict[RowName, RowState]) -> Item:
    return replace(
        item, standing=_SWAPPED.get(item.standing, item.standing), reason=turned(item.reason), visitors=False,
        fields=tuple(_field(f) for f in item.fields), rows=tuple(states[r.id] for r in item.rows),
        files=tuple(_file(f) for f in item.files),
        schema=tuple(replace(s, side=s.side.other) for s in item.schema))


def _field(field: Field) -> Field:
    m = field.merged
    standing = _SWAPPED.get(m.standing, m.standing)
    result = m.result if standing in (Standing.BLENDED, Standing.SETTLED) else (
        m.live if standing is Standing.HOMEWARD else m.staging)
    return replace(field, merged=FieldMerge(m.path, m.policy, m.base, m.staging, m.live, standing, result,
                                        m.decided.other if m.decided else None))


def _file(file: FileState) -> FileState:
    return replace(file, live=file.staging, staging=file.live, decided=file.decided.other if file.decided else None)
