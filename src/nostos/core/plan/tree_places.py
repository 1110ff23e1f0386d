"""What a move in a tree needs: that it leads nowhere below the very row that moves."""

from __future__ import annotations

from collections.abc import Iterator

from nostos.core.compare.items import Item
from nostos.core.plan.obstacles import Need, Obstacle, Obstacles
from nostos.core.plan.row_writes import RowWrite, WriteAction
from nostos.core.profiles.model import RowTree
from nostos.core.values.references import begun


class TreePlaces(Obstacles):
    """Looks at where rows come to stand in trees, on live as it is and with all that can go home."""

    def _place(self, item: Item, write: RowWrite) -> Iterator[Need]:
        """What a row's move needs. Raises Obstacle where it would come to stand below itself."""
        tree = self.rows.profile.tree_of(write.state.table)
        place = begun(write.values.get(tree.path)) if tree is not None and tree.path else None
        if tree is None or place is None or write.action is WriteAction.INSERT:
            return
        own = str(write.state.name[0])
        if own in self._chain(tree, place.name, merged=False):
            for name in self._chain(tree, place.name, merged=True):
                owner = self.comparison.owner.get((tree.table, (name,)))
                if owner is not None and owner != item.id and self._moves(tree, name):
                    yield Need(item.id, owner, "it stands above it, and moves first")
        if own in self._chain(tree, place.name, merged=True):
            raise Obstacle("it would come to stand below itself, for live has moved what it is to stand below")

    def _chain(self, tree: RowTree, name: str, merged: bool) -> list[str]:
        """A row and those above it, from below, by their canonical names."""
        found: list[str] = []
        while name and name not in found:
            found.append(name)
            name = self._above(tree, name, merged)
        return found

    def _moves(self, tree: RowTree, name: str) -> bool:
        state = self.rows.states.get((tree.table, (name,)))
        if state is None or state.staging is None or state.live is None:
            return False
        item = self.comparison.items.get(self.comparison.owner.get(state.id, ""))
        return item is not None and any(f.row == state.id and f.column == tree.path for f in item.going)

    def _above(self, tree: RowTree, name: str, merged: bool) -> str:
        state = self.rows.states.get((tree.table, (name,)))
        if state is not None:
            form = state.staging if state.live is None or (merged and self._moves(tree, name)) else state.live
            place = begun((form or {}).get(tree.path))
            return place.name if place is not None else ""
        key = self.rows.live_keys.key(tree.table, name)
        table = self.rows.live_tables.get(tree.table)
        row = self.target_db.fetch(table, (key,)) if table is not None and key is not None else None
        place = begun(self.translator.value(tree.table, row, tree.path)) if row is not None else None
        return place.name if place is not None else ""
