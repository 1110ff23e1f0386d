"""Asks whether what a plan rests on is true, in a few statements for each kind, at the moment that it matters.

Schema before a step is taken; rows that are changed or removed when they are locked, before anything is written; what
written rows point at, and names, when all is written, so that nobody waits for long. Where one of them does not hold,
live has moved on: the caller's transaction takes everything back, and the plan is made again.

Files are asked for where they are switched (files.py), and what points at removed rows where that is looked for
(plan/obstacles.py, `Removals`), for both need more than one moment.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TypeVar

from nostos.core.anchor.names import Side
from nostos.core.database.protocol import Database
from nostos.core.database.schema import Key, Row, Table, Value
from nostos.core.errors import TargetMoved
from nostos.core.plan.conditions import Condition, NoColumn, NoTable, NothingAlike, RowAs, RowThere
from nostos.core.values.merging import same

C = TypeVar("C")


def is_other(table: Table, seen: RowAs, now: Row) -> bool:
    """Whether half of the rest of a row is not what it was: then its key may have been given to another thing since,
    which is found out by comparing again."""
    rest = [c for c in seen.before if c in now and c not in table.key and c not in seen.columns]
    unlike = [c for c in rest if not same(now[c], seen.before[c])]
    one_count = len(unlike) == 1 and isinstance(now[unlike[0]], int)  # as a counter moves with every visit
    return 0 < len(rest) <= 2 * len(unlike) and not one_count


class Verifier:
    """Conditions, asked of one database. Every method raises TargetMoved where one does not hold."""

    def __init__(self, conditions: Sequence[Condition], target_db: Database, side: Side) -> None:
        """side: whose database it is."""
        self._conditions, self._side = conditions, side
        self._db = target_db

    def _of(self, kind: type[C]) -> list[C]:
        return [c for c in self._conditions if isinstance(c, kind)]

    def schema(self, table: str, column: str | None = None) -> None:
        """Whether a table or column that is about to be added is not there: else it is live's own."""
        said = any(c.table == table for c in self._of(NoTable)) if column is None else any(
            (c.table, c.column) == (table, column) for c in self._of(NoColumn))
        if not said:
            return
        there = self._db.tables().get(table)
        if there is not None and (column is None or there.column(column) is not None):
            what = f"the table {table}" if column is None else f"the column {table}.{column}"
            raise TargetMoved(f"{self._side.capitalize()} has {what} by itself now.", next_step="Compare again.")

    def locked(self, tables: Mapping[str, Table]) -> dict[tuple[str, Key], Row]:
        """Lock every row that must be as it was seen, some at once, in the order of their keys, and look at each.
        Returns them as they are."""
        seen = self._of(RowAs)
        by_table: dict[str, list[Key]] = {}
        for one in seen:
            by_table.setdefault(one.table, []).append(one.key)
        found: dict[tuple[str, Key], Row] = {}
        for name, keys in sorted(by_table.items()):
            table = tables[name]
            found.update(((name, table.key_of(row)), row) for row in self._db.locked(table, keys))
        for one in seen:
            now = found.get((one.table, one.key))
            if now is None or any(not same(now.get(c), one.before[c]) for c in one.columns) or is_other(
                    tables[one.table], one, now):
                raise TargetMoved(f"{one.item} changed {self._side.there} while it was being merged.",
                                next_step="Compare again, then merge.")
        return found

    def at_the_end(self, tables: Mapping[str, Table], removed: set[tuple[str, Key]],
                   inserted: Mapping[tuple[str, Key], Key]) -> None:
        """Whether what written rows point at is there, and stays until the commit; and whether their names are theirs
        alone. removed: what the merge itself removes. inserted: by table and canonical key, the keys of what was added.
        """
        pointed: dict[str, dict[Key, str]] = {}
        for one in self._of(RowThere):
            if (one.table, one.key) not in removed:
                pointed.setdefault(one.table, {}).setdefault(one.key, one.item)
        for name, keys in sorted(pointed.items()):
            there = set(self._db.there(tables[name], list(keys))) if name in tables else set()
            for key, item in keys.items():
                if key not in there:
                    raise TargetMoved(f"{item} points at {name} {key[0]!r}, which {self._side} has removed meanwhile.",
                                    next_step="Compare again, then merge.")
        names: dict[tuple[str, str], dict[Value, NothingAlike]] = {}
        for alike in self._of(NothingAlike):
            names.setdefault((alike.table, alike.column), {})[alike.value] = alike
        for (name, column), wanted in sorted(names.items()):
            for row in self._db.find_any(tables[name], column, list(wanted), {}):
                said = wanted.get(row[column])
                if said is not None and tables[name].key_of(row) != inserted.get((name, said.by), said.by):
                    raise TargetMoved(f"{said.item} would have the {column} {said.value!r}, which {self._side} has "
                                      "given to another meanwhile.", next_step="Compare again, then merge.")
