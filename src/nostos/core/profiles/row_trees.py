"""Rows of a table that are a tree: by paths, by a column that points upward, or by intervals."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from nostos.core.database.schema import Value
from nostos.core.records import dataclass


@dataclass(frozen=True)
class RowTree:
    """Rows of a table that are a tree.

    path: a column that holds each row's place as that of the row above it and a step of its own: `step` characters,
    or, where that is 0, whatever ends with `separator`. ids: such a step is the row's own number. parent: else, or as
    well, a column that points at the row above. depth: a column with the number of steps, which is `depth_base` for a
    row that nothing is above. children: one with the number of rows directly below. inherited: other columns whose
    values begin with those of the row above, such as addresses.
    """

    table: str
    path: str = ""
    step: int = 0
    separator: str = ""
    alphabet: str = ""  # the characters of steps, in their order
    ids: bool = False
    parent: str = ""
    depth: str = ""
    depth_base: int = 1
    children: str = ""
    inherited: tuple[str, ...] = ()

    @property
    def placed(self) -> tuple[str, ...]:
        """The columns that begin with the values of the row above."""
        return (*((self.path,) if self.path else ()), *self.inherited)

    @property
    def columns(self) -> frozenset[str]:
        """All that follows from a row's place."""
        return frozenset((*self.placed, *filter(None, (self.depth, self.children))))

    def up(self, row: Mapping[str, Any]) -> Value:
        """What the row above one has: its path, or its key."""
        return self.above(str(row.get(self.path) or "")) if self.path else row.get(self.parent)

    def above(self, path: str) -> str | None:
        """The path of the row above one; empty: it has none; None: it is no such path."""
        if self.step:
            return path[:-self.step] if path and len(path) % self.step == 0 else None
        head = path[:-1] if path.endswith(self.separator) else path
        up = head[:head.rfind(self.separator) + 1] if self.separator in head else ""
        if up and not path.endswith(self.separator):
            up = up[:-1]
        return "" if up == self.separator else up


@dataclass(frozen=True)
class NestedTree:
    """Rows of a table that are trees by intervals: a row is below those whose `left` and `right` enclose its own. tree:
    a column with the number of the tree, where there are several. parent: one that points at the row above, where there
    is one. depth: as in `RowTree`."""

    table: str
    left: str
    right: str
    tree: str = ""
    parent: str = ""
    depth: str = ""
    depth_base: int = 0

    @property
    def columns(self) -> frozenset[str]:
        """All that follows from a row's place."""
        return frozenset(filter(None, (self.left, self.right, self.tree, self.depth)))

    @property
    def tells(self) -> str:
        """The column by which alone it is told what a row is below; empty where another column points there."""
        return "" if self.parent else self.left


def parents(rows: Iterable[Mapping[str, Any]], key: str, tree: NestedTree) -> dict[Value, Value]:
    """By the key of each row that of the row right above it; None: nothing is above."""
    parents: dict[Value, Value] = {}
    open_rows: list[Mapping[str, Any]] = []
    last: Any = object()
    for row in sorted(rows, key=lambda r: (str(r.get(tree.tree) or "") if tree.tree else "", r[tree.left] or 0)):
        if tree.tree and row[tree.tree] != last:
            open_rows, last = [], row[tree.tree]
        while open_rows and (open_rows[-1][tree.right] or 0) < (row[tree.left] or 0):
            open_rows.pop()
        parents[row[key]] = open_rows[-1][key] if open_rows else None
        open_rows.append(row)
    return parents
