"""Which tables are trees: by paths whose laws hold on every row that is looked at, with depths and numbers of children.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from itertools import islice

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row, Table, Value
from nostos.core.profiles.row_trees import NestedTree, RowTree, parents
from nostos.core.values import words

_STEPS = range(1, 13)  # lengths of steps
_LOOKED_UP = 150  # rows whose parents are looked up
_COUNTED = 12  # rows whose children are counted
_BELOW = 2000  # rows below one, that are looked at
_ALL = 2000  # rows of a table that are all looked at
_BOUNDS = (("lft", "rgt"), ("lft", "rght"), ("left", "right"), ("lt", "rt"), ("lhs", "rhs"))
_SEPARATORS = "/.,-|"
_DIGITS, _UPPER, _LOWER = "0123456789", "ABCDEFGHIJKLMNOPQRSTUVWXYZ", "abcdefghijklmnopqrstuvwxyz"
_DEPTHS, _CHILDREN = frozenset({"depth", "level"}), frozenset({"child", "children", "numchild", "childcount"})


def tree_of(database: Database, table: Table, rows: Sequence[Row], parents: Iterable[str] = ()) -> RowTree | None:
    """The tree that a table's rows are; None where they are none. parents: columns that point at the table itself."""
    if not table.surrogate or not rows:
        return None
    for column in table.stored:
        texts = [row[column] for row in rows]
        if column not in table.key and all(isinstance(t, str) and t for t in texts) and len(set(texts)) == len(texts):
            tree = _by_path(database, table, rows, column)
            if tree is not None:
                return _with_inherited(database, table, rows, tree)
    for column in parents:
        tree = _with_inherited(database, table, rows, RowTree(table.name, parent=column))
        if tree.inherited:
            return tree
    return None


def _by_path(database: Database, table: Table, rows: Sequence[Row], column: str) -> RowTree | None:
    unique = (column,) in table.uniques
    for tree in _candidates(table, rows, column):
        if not unique and tree.step:
            continue
        paths = [str(row[column]) for row in rows]
        if any(tree.above(p) is None for p in paths):
            continue
        deep = [(row, up) for row in rows if (up := tree.above(str(row[column])))]
        depth, base = _depth(tree, table, rows)
        children = _children(database, tree, table, rows)
        if not deep and not (unique and depth and children):
            continue  # nothing is below anything yet, and nothing else says that it is a tree
        some = deep[:_LOOKED_UP]
        present = {row[column] for row in database.find_any(table, column, list({up for _, up in some}), {})}
        if all(up in present for _, up in some):
            return replace(tree, depth=depth, depth_base=base, children=children)
    return None


def _candidates(table: Table, rows: Sequence[Row], column: str) -> Iterator[RowTree]:
    """How the paths of a column may be built."""
    paths = [str(row[column]) for row in rows]
    letters = set("".join(paths))
    if letters <= set(_DIGITS + _UPPER + _LOWER) and letters & set(_DIGITS):
        alphabet = _DIGITS + (_UPPER if letters & set(_UPPER) else "") + (_LOWER if letters & set(_LOWER) else "")
        lengths = {len(p) for p in paths}
        ratios = {len(p) // d for p, d in zip(paths, _numbers(table, rows), strict=True) if d and len(p) % d == 0}
        steps = sorted(ratios) if len(ratios) == 1 else [s for s in _STEPS if len(lengths) > 1]
        for step in reversed(steps):
            if all(n % step == 0 for n in lengths):
                yield RowTree(table.name, column, step, alphabet=alphabet)
    for separator in _SEPARATORS:
        if any(separator in p.strip(separator) for p in paths):
            ids = all(p.strip(separator).rpartition(separator)[2] == str(row[table.key[0]])
                      for p, row in zip(paths, rows, strict=True))
            if ids or "path" in words.words(column):
                yield RowTree(table.name, column, separator=separator, ids=ids)


def _numbers(table: Table, rows: Sequence[Row]) -> list[int]:
    """What the column that is called depth, or level, says; 0 where there is none."""
    column = next((c for c in table.stored if set(words.words(c)) & _DEPTHS), None)
    return [row[column] if column and isinstance(row[column], int) else 0 for row in rows]  # type: ignore[misc]


def _depth(tree: RowTree, table: Table, rows: Sequence[Row]) -> tuple[str, int]:
    """The column that holds how deep each row is, and what it says where nothing is above."""
    deep = []
    for row in rows:
        up, steps = tree.above(str(row[tree.path])), 0
        while up:
            up, steps = tree.above(up), steps + 1
        deep.append(steps)
    for column in table.stored:
        values = [row[column] for row in rows]
        if all(isinstance(v, int) for v in values):
            bases = {int(str(v)) - steps for v, steps in zip(values, deep, strict=True)}
            if len(bases) == 1 and (set(words.words(column)) & _DEPTHS or len(set(deep)) > 2):
                return column, bases.pop()
    return "", 1


def _children(database: Database, tree: RowTree, table: Table, rows: Sequence[Row]) -> str:
    """The column that holds how many rows are directly below each."""
    named = [c for c in table.stored if set(words.words(c)) & _CHILDREN and isinstance(rows[0][c], int)]
    for column in named:
        # Deep rows with some children: what is below a high one may be the whole table.
        some = sorted((row for row in rows if row[column]), key=lambda row: -len(str(row[tree.path])))[:_COUNTED]
        right = True
        for row in some:
            below = list(islice(database.beginning(table, tree.path, str(row[tree.path])), _BELOW))
            right = right and (len(below) == _BELOW or row[column] == sum(
                tree.above(str(r[tree.path])) == row[tree.path] for r in below))
        if right:
            return column
    return ""


def _with_inherited(database: Database, table: Table, rows: Sequence[Row], tree: RowTree) -> RowTree:
    """The tree, with the columns whose values begin with those of the row above."""
    ups = _parents(database, table, rows, tree)
    pairs = [(row, up) for row in rows if (up := ups.get(tree.up(row))) is not None]
    columns = []
    for column in table.stored:
        if column == tree.path or not pairs or not all(
                isinstance(r[column], str) and isinstance(up[column], str) for r, up in pairs):
            continue
        texts = [(str(row[column]), str(up[column])) for row, up in pairs]
        if all(up and t.startswith(up) and len(t) > len(up) for t, up in texts) and (
                len(pairs) > 2 or all("/" in t for t, _ in texts)) and any(len(up) > 1 for _, up in texts):
            columns.append(column)
    return replace(tree, inherited=tuple(columns))


def _parents(database: Database, table: Table, rows: Sequence[Row], tree: RowTree) -> Mapping[object, Row]:
    column = tree.path or table.key[0]
    wanted = {tree.up(row) for row in rows}
    some = [w for w in wanted if w not in (None, "", 0)][:_LOOKED_UP]
    return {row[column]: row for row in database.find_any(table, column, some, {})}


def nested_of(database: Database, table: Table, rows: Sequence[Row], parents: Sequence[str] = ()) -> NestedTree | None:
    """The trees by intervals that a table's rows are; None where they are none. All rows are looked at, up to a number;
    of a larger table, what its names say must hold in the sample. parents: columns that point at the table itself."""
    if not table.surrogate or not rows:
        return None
    pairs = [(left, right) for left in table.stored for right in table.stored if _bounds(left, right)]
    for left, right in pairs:
        if not all(isinstance(row[c], int) for row in rows for c in (left, right)):
            continue
        number = next((c for c in table.stored if {"tree", "root"} & set(words.words(c)) and isinstance(
            rows[0][c], int) and c not in (left, right)), "")
        tree = NestedTree(table.name, left, right, number, parents[0] if len(parents) == 1 else "")
        if all(row[left] < row[right] for row in rows):  # type: ignore[operator]
            if len(rows) >= _ALL:
                return tree
            if _nests(tree, rows):
                depth, base = _nested_depth(tree, table, rows)
                return replace(tree, depth=depth, depth_base=base)
    return None


def _bounds(left: str, right: str) -> bool:
    """Whether two columns are called as the bounds of an interval."""
    mine, theirs = words.words(left), words.words(right)
    return any(mine[-1:] == (a,) and theirs[-1:] == (b,) and mine[:-1] == theirs[:-1] for a, b in _BOUNDS)


def _nests(tree: NestedTree, rows: Sequence[Row]) -> bool:
    """Whether intervals enclose each other or lie apart, and no bound is given out twice in one tree."""
    by_tree: dict[object, list[Row]] = {}
    for row in rows:
        by_tree.setdefault(row[tree.tree] if tree.tree else None, []).append(row)
    for some in by_tree.values():
        ends: list[int] = []
        bounds = [int(str(row[c])) for row in some for c in (tree.left, tree.right)]
        if len(set(bounds)) != len(bounds):
            return False
        for row in sorted(some, key=lambda r: int(str(r[tree.left]))):
            while ends and ends[-1] < int(str(row[tree.left])):
                ends.pop()
            if ends and int(str(row[tree.right])) > ends[-1]:
                return False
            ends.append(int(str(row[tree.right])))
    return True


def _nested_depth(tree: NestedTree, table: Table, rows: Sequence[Row]) -> tuple[str, int]:
    """The column that holds how deep each row is, and what it says where nothing is above. rows: that nest."""
    key = table.key[0]
    above = parents(rows, key, tree)
    deep: dict[Value, int] = {None: -1}
    for row in sorted(rows, key=lambda r: int(str(r[tree.left]))):  # whatever is above a row begins before it
        deep[row[key]] = deep[above[row[key]]] + 1
    for column in table.stored:
        if set(words.words(column)) & _DEPTHS and all(isinstance(row[column], int) for row in rows):
            bases = {int(str(row[column])) - deep[row[key]] for row in rows}
            if len(bases) == 1:
                return column, bases.pop()
    return "", 0
