"""Which rows are parts of others: what one row of another table continues, ties to a third, or cannot be without."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence

from nostos.core.database.schema import Table
from nostos.core.profiles.learning import words
from nostos.core.profiles.learning.findings import Finding
from nostos.core.profiles.learning.places import is_link
from nostos.core.profiles.model import Child


def parts(unknown: Mapping[str, Table], sure: Sequence[Finding], visitors: Collection[str]) -> Iterator[Child]:
    """The tables that no profile names whose rows are fields of other rows. visitors: tables that visitors fill, or
    that are made from what they do: their rows are no part of what editors write."""
    for table in unknown.values():
        goals = {c: t for c, t in goals_of(table, sure).items() if table.name not in visitors or t in visitors}
        found = _extension(table, goals) or _link(table, goals) or _named(table, goals)
        # What has, by the schema, the very key of another row is part of it, whatever that is.
        if found is not None and found.owner != table.name and (found.owner in unknown or table.continues):
            yield found


def goals_of(table: Table, sure: Sequence[Finding]) -> dict[str, str]:
    """The columns that point at one table each, and that."""
    found = {f.place.column: f.to for f in sure
             if f.place.table == table.name and not f.place.where and not f.place.path and not f.many}
    for fk in table.foreign_keys:
        if len(fk.columns) == 1:
            found[fk.columns[0]] = fk.target
    return found


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


def _after(name: str, owner: str) -> bool:
    """Whether a table is called after another: `order_notes` after `orders`, `shop_productimage` after `shop_product`.
    """
    mine, theirs = words.words(name), words.words(owner)
    if len(theirs) > 1 and mine[:1] == theirs[:1]:
        mine, theirs = mine[1:], theirs[1:]
    whole, head = "".join(mine), "".join(theirs)
    return len(head) > 2 and whole.startswith(head) and whole != head
