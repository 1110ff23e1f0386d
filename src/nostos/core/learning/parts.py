"""Which rows are parts of others: what one row of another table continues, ties to a third, or cannot be without.

A row that is told apart by its owner and something that recurs from owner to owner (a place in a list, a language, the
name of a field) is nothing without that owner: a weak entity of P. Chen, "The Entity-Relationship Model" (1976).
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from nostos.core.database.schema import Row, Table, Value
from nostos.core.learning.findings import Certainty, Finding
from nostos.core.learning.places import is_link
from nostos.core.profiles.parts import Child
from nostos.core.profiles.places import Place
from nostos.core.values import words

RANKS = words.listed("ranks")

_FEWEST_KEYED = 6  # rows, that say which of two keys fewer rows share
_FEWEST_OWNERS = 3  # whose rows count on from 0 or 1: of fewer that may be chance


def parts(unknown: Mapping[str, Table], sure: Sequence[Finding], visitors: Collection[str],
          samples: Mapping[str, Sequence[Row]]) -> tuple[tuple[Child, ...], tuple[Finding, ...]]:
    """The tables that no profile names whose rows are fields of other rows; and which columns only rank these.

    visitors: tables that visitors fill, or that are made from what they do: their rows are no part of what editors
    write. samples: rows, by table.
    """
    every = {table.name: goals_of(table, sure) for table in unknown.values()}
    children: dict[str, Child] = {}
    ranks: list[Finding] = []
    for table in unknown.values():
        goals = {c: t for c, t in every[table.name].items() if table.name not in visitors or t in visitors}
        child = _extension(table, goals) or _link(table, goals) or _named(table, goals) or _keyed(
            table, goals, samples.get(table.name, ()))
        # What has, by the schema, the very key of another row is part of it, whatever that is.
        if child is not None and child.owner != table.name and (child.owner in unknown or table.continues):
            children[table.name] = child
    asked = {(f.place.table, f.place.column) for f in sure}
    for table in unknown.values():
        pointing = {n for n, goals in every.items() if table.name in goals.values()}
        if table.name not in children and table.name not in visitors and all(
                n in children and children[n].owner == table.name
                for n in pointing):  # nothing but its own parts needs it
            goals = {c: t for c, t in every[table.name].items() if t not in visitors and t in unknown}
            others = [c for c in table.stored if c not in goals and c not in table.key[:1] * table.surrogate and not (
                words.says_id(c) or (table.name, c) in asked)]
            child, telling = _piece(table, goals, others, samples.get(table.name, ()))
            if child is not None:
                children[table.name] = child
                ranks += [Finding(Place(table.name, c), Certainty.NONE, "", (
                    f"it is called a rank, and tells the rows of one {child.owner} apart",)) for c in telling
                          if not RANKS.isdisjoint(words.words(c))]
    return tuple(children.values()), tuple(ranks)


def _piece(table: Table, goals: Mapping[str, str], columns: Sequence[str], rows: Sequence[Row]
           ) -> tuple[Child | None, list[str]]:
    """Rows that are told apart within one owner alone, and what tells them apart. columns: those that may."""
    owners = []
    if any(len(unique) == 1 and unique[0] not in goals for unique in table.uniques):
        return None, []  # it has a name or a number of its own
    for column, owner in goals.items():
        declared = table.column(column)
        if owner != table.name and declared is not None and not declared.nullable:
            telling = [other for other in columns if _tells(table, column, other, rows)]
            owners += [(column, owner, telling)] if telling else []
    if len(owners) != 1:  # in doubt it is a thing of its own
        return None, []
    column, owner, telling = owners[0]
    return Child(table.name, column, owner, table.name, table.key, repeats=True, natural=True), telling


def _tells(table: Table, owner: str, other: str, rows: Sequence[Row]) -> bool:
    """Whether `other` tells apart the rows of one owner, and only those: its values recur from owner to owner."""
    groups: dict[Value, list[Value]] = {}
    for row in rows:
        groups.setdefault(row.get(owner), []).append(row.get(other))
    some = [g for g in groups.values() if len(g) > 1]
    if not some or len(groups) < 2 or any(len({*g}) < len(g) or None in g for g in groups.values()):
        return False
    recurs = len({v for g in groups.values() for v in g}) * 2 <= sum(map(len, groups.values()))
    if any({owner, other} == {*u} for u in (*table.uniques, table.key)):
        return recurs
    if not all(isinstance(v, int) for g in groups.values() for v in g):
        return False
    if not RANKS.isdisjoint(words.words(other)):
        return True
    return recurs and len(some) >= _FEWEST_OWNERS and all(
        max(g) - min(g) < len(g) and min(g) in (0, 1) for g in groups.values())  # type: ignore[operator,type-var]


def goals_of(table: Table, sure: Sequence[Finding]) -> dict[str, str]:
    """The columns that point at one table each, and that."""
    goals = {f.place.column: f.to for f in sure
             if f.place.table == table.name and not f.place.where and not f.place.path and not f.many}
    for fk in table.foreign_keys:
        if len(fk.columns) == 1:
            goals[fk.columns[0]] = fk.target
    return goals


def _extension(table: Table, goals: Mapping[str, str]) -> Child | None:
    """Rows of which another row has one each: their key is its key, or they are called after it."""
    if len(table.key) == 1 and table.key[0] in goals and not table.surrogate:
        return Child(table.name, table.key[0], goals[table.key[0]], table.name, (), natural=True)
    for column, owner in goals.items():
        declared = table.column(column)
        if (column,) in table.uniques and declared is not None and not declared.nullable and _after(table.name, owner):
            return Child(table.name, column, owner, table.name, (), natural=True)
    return None


def _link(table: Table, goals: Mapping[str, str]) -> Child | None:
    """Rows that only tie two others together are part of the one that they are called after."""
    first = next((c for c in table.stored if c in goals and _after(table.name, goals[c])), None)
    if not is_link(table) or len(goals) < 2 or first is None:
        return None
    columns = [c for c in table.stored if c in goals]
    together = {*columns} in ({*u} for u in (*table.uniques, table.key))
    return Child(table.name, first, goals[first], table.name, tuple(c for c in columns if c != first),
                 repeats=not together, natural=True)


def _named(table: Table, goals: Mapping[str, str]) -> Child | None:
    """Rows that are called after those that they cannot be without."""
    for column, owner in goals.items():
        declared = table.column(column)
        if declared is not None and not declared.nullable and _after(table.name, owner):
            return Child(table.name, column, owner, table.name, table.key, repeats=True, natural=True)
    return None


def _keyed(table: Table, goals: Mapping[str, str], rows: Sequence[Row]) -> Child | None:
    """Rows whose own key holds another row's: of two that it holds, the one that fewer rows share."""
    keys = [c for c in table.key if c in goals] if len(table.key) > 1 and not table.surrogate else []
    shared = sorted((len({row.get(c) for row in rows}), c) for c in keys)
    if not keys or (len(keys) > 1 and (len(rows) < _FEWEST_KEYED or shared[-1][0] < 2 * shared[-2][0])):
        return None
    column = shared[-1][1]
    return Child(table.name, column, goals[column], table.name, tuple(c for c in table.key if c != column),
                 natural=True)


def _after(name: str, owner: str) -> bool:
    """Whether a table is called after another: `order_notes` after `orders`, `shop_productimage` after `shop_product`.
    """
    mine, theirs = words.words(name), words.words(owner)
    if len(theirs) > 1 and mine[:1] == theirs[:1]:
        mine, theirs = mine[1:], theirs[1:]
    whole, head = "".join(mine), "".join(theirs)
    return len(head) > 2 and whole.startswith(head) and whole != head
