"""What a move in a tree needs: that it leads nowhere below the very row that moves."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from nostos.core.compare.items import Item
from nostos.core.plan.obstacles import Need, Obstacle, Obstacles
from nostos.core.plan.row_writes import RowWrite, WriteAction
from nostos.core.values.references import begun, inside
from nostos.core.values.words import says_parent


class TreePlaces(Obstacles):
    """Looks at where rows come to stand in trees, on live as it is and with all that can go home."""

    def _upward(self, table: str) -> Iterator[str]:
        """The columns that say what a row of a table is below."""
        profile = self.rows.profile
        tree, nested = profile.tree_of(table), profile.nested_of(table)
        if tree is not None and tree.path:
            yield tree.path
        if nested is not None and nested.tells:
            yield nested.tells
        for r in profile.references_of(table):
            if r.is_key and r.to == table and not r.where and says_parent(r.column):
                yield r.column

    def _place(self, item: Item, write: RowWrite) -> Iterator[Need]:
        """What a row's move needs. Raises Obstacle where it would come to stand below itself."""
        if write.action is WriteAction.INSERT or not self.rows.table(write.state.table).surrogate:
            return
        for column in self._upward(write.state.table):
            name = _above(write.values, column, write.state.table)
            if not name:
                continue
            table, siblings = write.state.table, str(write.state.name[0])
            if siblings in self._chain(table, column, name, merged=False):
                for up in self._chain(table, column, name, merged=True):
                    owner = self.comparison.owner.get((table, (up,)))
                    if owner is not None and owner != item.id and self._moves(table, column, up):
                        yield Need(item.id, owner, "it stands above it, and moves first")
            if siblings in self._chain(table, column, name, merged=True):
                raise Obstacle(f"it would come to stand below itself, for {self.rows.target} has moved what it is to "
                               "stand below")

    def _chain(self, table: str, column: str, name: str, merged: bool) -> list[str]:
        """A row and those above it, from below, by their canonical names."""
        chain: list[str] = []
        while name and name not in chain:
            chain.append(name)
            name = self._next(table, column, name, merged)
        return chain

    def _moves(self, table: str, column: str, name: str) -> bool:
        state = self.rows.states.get((table, (name,)))
        if state is None or state.source is None or state.target is None:
            return False
        item = self.comparison.items.get(self.comparison.owner.get(state.id, ""))
        return item is not None and any(f.row == state.id and f.column == column for f in item.going)

    def _next(self, table: str, column: str, name: str, merged: bool) -> str:
        state = self.rows.states.get((table, (name,)))
        if state is not None:
            comes = state.target is None or (merged and self._moves(table, column, name))
            form = state.source if comes else state.target
            return _above(form or {}, column, table)
        key = self.rows.target_keys.key(table, name)
        target_table = self.rows.target_tables.get(table)
        row = self.target_db.fetch(target_table, (key,)) if target_table is not None and key is not None else None
        return _above({column: self.translator.value(table, row, column)}, column, table) if row is not None else ""


def _above(form: Mapping[str, Any], column: str, table: str) -> str:
    """The name of the row that one is below, as its portable form says; empty where it is below none."""
    up = begun(form.get(column))
    if up is not None:
        return up.name
    return next((name for to, name in inside(form.get(column)) if to == table), "")
