"""Which row is above another in a tree of rows: told by paths, or by a column that points at it.

The path of a row changes with every move of one above it, and two sides give out one path to two rows. What a row says
by itself is below which row it is, and its own step there; the rest follows.
"""

from __future__ import annotations

from collections.abc import Mapping
from copy import copy
from typing import Any

from nostos.core.compare.nesting import Nests
from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row, Table, Value
from nostos.core.profiles.model import Profile
from nostos.core.profiles.row_trees import RowTree

_KEPT = 20_000  # rows above others that are remembered


class Places:
    """The trees of one side, or of the anchor.

    known: rows by table that are not as the database has them, by their key; None: there is none. They come first.
    """

    def __init__(self, profile: Profile, database: Database, tables: Mapping[str, Table],
                 known: Mapping[str, Mapping[Value, Row | None]] | None = None) -> None:
        self._trees = {t.table: t for t in profile.trees}
        self.nests = Nests(database, tables, known)
        self._database = database
        self._tables = tables
        self._known = known or {}
        self._by_path: dict[str, dict[Value, Row]] = {}
        self._found: dict[tuple[str, Value], Row | None] = {}
        for name, rows in self._known.items():
            tree = self._trees.get(name)
            if tree is not None:
                column = tree.path or tables[name].key[0]
                self._by_path[name] = {row.get(column): row for row in rows.values() if row is not None}

    def on(self, database: Database) -> Places:
        """The same, in another connection to the database."""
        twin = copy(self)
        twin._database = database
        twin._found = {}
        twin.nests = Nests(database, self._tables, self._known)
        return twin

    def above(self, tree: RowTree, row: Mapping[str, Any], column: str) -> tuple[Value, str] | None:
        """The key of the row above another and its value in a column, with which the other's begins; None and nothing
        where there is none above. None: the value does not follow from a place."""
        up = self.parent(tree, row)
        value = str(row[column])
        if up is None:
            root = tree.above(value) == "" if column == tree.path else True
            return (None, "") if root and self._is_root(tree, row) else None
        head = up.get(column)
        if not isinstance(head, str) or not value.startswith(head) or value == head:
            return None
        return up[self._tables[tree.table].key[0]], head

    def _is_root(self, tree: RowTree, row: Mapping[str, Any]) -> bool:
        return tree.up(row) in (("",) if tree.path else (None, 0, ""))

    def parent(self, tree: RowTree, row: Mapping[str, Any]) -> Row | None:
        """The row above another; None where there is none."""
        wanted = tree.up(row)
        if wanted in (None, "", 0):
            return None
        asked = (tree.table, wanted)
        if asked not in self._found:
            if len(self._found) > _KEPT:
                self._found.clear()
            self._found[asked] = self._look(tree, wanted)
        return self._found[asked]

    def _look(self, tree: RowTree, wanted: Value) -> Row | None:
        table = self._tables.get(tree.table)
        if table is None:
            return None
        here = self._by_path.get(tree.table, {}).get(wanted)
        if here is not None:
            return here
        others = self._known.get(tree.table, {})
        rows = self._database.find(table, {tree.path or table.key[0]: wanted})
        return next((row for row in rows if row[table.key[0]] not in others), None)
