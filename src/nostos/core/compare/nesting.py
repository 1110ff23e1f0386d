"""Trees by intervals: what each row is below, told by the numbers that enclose its own."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row, Table, Value
from nostos.core.profiles.row_trees import NestedTree, parents


def rows_of(database: Database, table: Table, tree: NestedTree) -> Iterator[Row]:
    """Of every row what its place in the tree rests on, streamed."""
    columns = tuple(filter(None, (table.key[0], tree.left, tree.right, tree.tree, tree.parent, tree.depth)))
    for values in database.scan(table, columns):
        yield dict(zip(columns, values, strict=True))


def numbered(tree: NestedTree, above: Mapping[Value, Value], rows: Mapping[Value, Mapping[str, Any]]
             ) -> dict[Value, Row]:
    """Bounds, depths and tree numbers for rows, by their keys, from what each is below; those below one stand in the
    order in which they come. rows: as they are, for the numbers of trees that they have already."""
    below: dict[Value, list[Value]] = {}
    for key, up in above.items():
        below.setdefault(up if up in above else None, []).append(key)
    starts = [int(str(r[tree.tree] or 0)) for r in rows.values()] if tree.tree else []
    rows_by_number: dict[Value, Row] = {}
    at, used, last = 1, set(), max(starts, default=0)
    for top in below.get(None, []):
        number = rows.get(top, {}).get(tree.tree) if tree.tree else None
        if tree.tree:
            at = 1
            if not number or number in used:
                number = last = last + 1
            used.add(number)
        stack: list[tuple[Value, int, bool]] = [(top, 0, False)]
        while stack:
            key, deep, done = stack.pop()
            if done:
                rows_by_number[key][tree.right], at = at, at + 1
                continue
            rows_by_number[key] = {tree.left: at}
            at += 1
            if tree.tree:
                rows_by_number[key][tree.tree] = number
            if tree.depth:
                rows_by_number[key][tree.depth] = tree.depth_base + deep
            stack.append((key, deep, True))
            stack.extend((child, deep + 1, False) for child in reversed(below.get(key, [])))
    return rows_by_number


class Nests:
    """The trees by intervals of one side, or of the anchor. known: as in `Places`."""

    def __init__(self, database: Database, tables: Mapping[str, Table],
                 known: Mapping[str, Mapping[Value, Row | None]] | None = None) -> None:
        self._database, self._tables, self._known = database, tables, known or {}
        self._parents: dict[str, dict[Value, Value]] = {}

    def above(self, tree: NestedTree, key: Value) -> Value:
        """The key of the row above another; None where there is none."""
        return self.all_above(tree).get(key)

    def all_above(self, tree: NestedTree) -> dict[Value, Value]:
        """By the key of every row that of the row above it, in the order in which they stand."""
        if tree.table not in self._parents:
            table = self._tables[tree.table]
            known = self._known.get(tree.table, {})
            rows = [row for row in rows_of(self._database, table, tree) if row[table.key[0]] not in known]
            rows += [row for row in known.values() if row is not None]
            self._parents[tree.table] = parents(rows, table.key[0], tree)
        return self._parents[tree.table]
