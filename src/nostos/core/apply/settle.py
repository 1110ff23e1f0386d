"""After a merge: the anchor advances over what is the same on both sides now."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace
from typing import Any

from nostos.core.anchor import ALWAYS_LOOK, Anchor
from nostos.core.apply.commit import Committed
from nostos.core.compare import Rows, RowState, base_key
from nostos.core.database.base import Database
from nostos.core.database.schema import Key, Row
from nostos.core.fields import ABSENT, Standing
from nostos.core.files import FileState
from nostos.core.items import TRAVELS, Comparison, Field
from nostos.core.keys import RowName, Side
from nostos.core.operations import Plan, SchemaOperation
from nostos.core.portable import Unresolved, Writer
from nostos.core.site import Site
from nostos.core.tree.entries import look_at
from nostos.core.values import structures
from nostos.core.values.structures import Tree


def settle(anchor: Anchor, comparison: Comparison, plan: Plan, done: Committed, live: Site, live_db: Database) -> None:
    """Advance the anchor: what was taken, and what both sides had changed alike, becomes the common ancestor."""
    taken = {i.id for i in plan.selection.items}
    settled = {s.id for s in plan.settles}
    with anchor.changing():
        tables = live_db.tables()
        for operation in plan.of(SchemaOperation):
            if operation.step.what == "table":
                for side in Side:
                    anchor.remember_table(side, tables[operation.step.table])
        rows = _Settler(anchor, comparison.rows, done, live_db)
        files: list[FileState] = list(plan.settled_files)
        for item in comparison.items.values():
            by_row: dict[RowName, list[Field]] = {}
            for f in item.fields:
                if f.row is not None:
                    by_row.setdefault(f.row, []).append(f)
            for state in item.rows:
                rows.row(state, by_row.get(state.id, []), item.id in taken and state.id in settled)
            files.extend(f for f in item.files if f.standing is Standing.SETTLED)
        _files(anchor, files, live)


class _Settler:
    def __init__(self, anchor: Anchor, rows: Rows, done: Committed, live_db: Database) -> None:
        self.anchor = anchor
        self.rows = rows
        self.done = done
        self.live_db = live_db
        self.tables = live_db.tables()
        self.writer = Writer(rows.live_urls, self._number, rows.live_prefix)

    def _number(self, table: str, name: str) -> Any:
        key = self.done.keys.get((table, name), self.rows.live_keys.key(table, name))
        if key is None:
            raise Unresolved(table, name)
        return key

    def row(self, state: RowState, fields: list[Field], taken: bool) -> None:
        over = {Standing.SETTLED, *(TRAVELS if taken else ())}
        if not any(f.standing in over for f in fields):
            return
        for side, key in state.stale:
            self.anchor.set_digest(side, state.table, key, None)
        if state.staging is None:
            if state.live is None or taken:
                self._removed(state)
        elif state.live is None:
            if taken:
                self._inserted(state)
        else:
            self._updated(state, [f for f in fields if f.standing in over],
                          all(f.standing in over for f in fields))

    def _removed(self, state: RowState) -> None:
        key = base_key(self.rows.table(state.table), state.name, self.rows.base_translator)
        if key is not None:
            self.anchor.advance_row(state.table, key, None)
        for side, old in ((Side.LIVE, state.live_key), (Side.STAGING, state.staging_key)):
            if old is not None:
                self.anchor.set_digest(side, state.table, old, None)

    def _inserted(self, state: RowState) -> None:
        key = self.done.inserted.get(state.id)
        table = self.tables.get(state.table)
        row = self.live_db.fetch(table, key) if table and key else None
        if row is not None and key is not None:
            self._paired(state, key, row)

    def _paired(self, state: RowState, live_key: Key, live_row: Row) -> None:
        """Both sides have the row and it is the same: remember which is which, and as what."""
        table = self.tables[state.table]
        assert state.staging_key is not None and state.staging_raw is not None
        name: Key = live_key
        if table.surrogate:
            name = (int(str(state.name[0])),) if str(state.name[0]).isdigit() else live_key
            for side, key in ((Side.STAGING, state.staging_key), (Side.LIVE, live_key)):
                if key != name:
                    self.anchor.pair(side, state.table, key[0], str(name[0]))
        self.anchor.advance_row(state.table, name, live_row)
        self.anchor.set_digest(Side.LIVE, state.table, live_key, self._live_digest(state, live_key))
        self.anchor.set_digest(Side.STAGING, state.table, state.staging_key, state.staging_digest or ALWAYS_LOOK)

    def _live_digest(self, state: RowState, key: Key) -> bytes:
        table = self.tables[state.table]
        found = self.live_db.row_digest(table, self.anchor.columns(Side.LIVE, table), key)
        return found or ALWAYS_LOOK

    def _updated(self, state: RowState, over: list[Field], whole: bool) -> None:
        assert state.live_key is not None and state.staging_key is not None and state.staging is not None
        table = self.tables[state.table]
        if state.base is None:
            row = self.live_db.fetch(table, state.live_key)
            if whole and row is not None:
                self._paired(state, state.live_key, row)
            return
        form = dict(state.base)
        for f in over:
            value = f.merged.staging
            old = form.get(f.column)
            if isinstance(old, Tree) and (f.merged.path or isinstance(value, dict | list | Tree)):
                inner = value.data if isinstance(value, Tree) else value
                form[f.column] = Tree(structures.put(old.data, f.merged.path, inner, ABSENT), old.style)
            elif not f.merged.path:
                form[f.column] = state.staging.get(f.column)
        try:
            base = self.writer.row(form)
        except Unresolved:
            return  # rests on something that did not go home; it is compared again next time
        key = base_key(table, state.name, self.rows.base_translator)
        assert key is not None
        self.anchor.advance_row(state.table, key, base)
        if table.surrogate:
            for side, own in ((Side.STAGING, state.staging_key), (Side.LIVE, state.live_key)):
                if own != key:
                    self.anchor.pair(side, state.table, own[0], str(key[0]))
        live = self.live_db.fetch(table, state.live_key)
        self.anchor.set_digest(Side.LIVE, state.table, state.live_key,
                               self._live_digest(state, state.live_key) if live == base else ALWAYS_LOOK)
        self.anchor.set_digest(Side.STAGING, state.table, state.staging_key,
                               state.staging_digest if whole and state.staging_digest else ALWAYS_LOOK)


def _files(anchor: Anchor, files: Collection[FileState], live: Site) -> None:
    for file in files:
        anchor.keep_base_file(file.staging, file.path)
        anchor.keep_file(Side.STAGING, file.path, file.staging)
        there = look_at(live.files, file.path)
        if there is not None and file.staging is not None:
            there = replace(there, digest=file.staging.digest)
        anchor.keep_file(Side.LIVE, file.path, there)

