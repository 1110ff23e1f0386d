"""Asks whether what a plan rests on is true, in a few statements for each kind, at the moment that it matters.

Schema before a step is taken; rows that are changed or removed when they are locked, before anything is written; what
written rows point at, and names, when all is written, so that nobody waits for long; what points at removed rows in one
pass over whole tables before the transaction, and by indexes inside it; files when it is worked out what will happen to
them, and when what they hold is kept. Where one of them does not hold, the target has moved on: the caller takes
everything back, and the plan is made again.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence

from nostos.core.anchor.names import Side
from nostos.core.compare.items import Comparison
from nostos.core.database.protocol import Database
from nostos.core.database.schema import Key, Row, Table, Value
from nostos.core.errors import TargetMoved
from nostos.core.files.tree import Asked, FileTree
from nostos.core.plan.conditions import (
    FileAs,
    NoColumn,
    NoTable,
    NothingAlike,
    NothingPointsAt,
    RowAs,
    RowThere,
)
from nostos.core.plan.obstacles import Obstacles
from nostos.core.plan.operations import Plan
from nostos.core.values.merging import same


def looks(conditions: Sequence[FileAs]) -> Iterator[Asked]:
    """What `ask_for_files` asks of a tree."""
    for one in conditions:
        yield "status", one.path
        if one.entry is not None:
            yield "entry", one.path, False


def ask_for_files(conditions: Sequence[FileAs], tree: FileTree, side: Side) -> None:
    """Files as they were seen: of this kind, with these rights and this content. The content of one that looks as it
    did is not read: that is done when a copy of it is kept. Raises TargetMoved."""
    for one in conditions:
        moved = _moved(one, tree)
        if moved:
            raise TargetMoved(f"{side.capitalize()}{moved}.", next_step="Compare again.")


def _moved(one: FileAs, tree: FileTree) -> str:
    if one.entry is not None and one.entry.kind == "folder":
        return "" if tree.entry(one.path) is not None else f"'s folder {one.path} is not empty any more, or gone"
    status = tree.status(one.path)
    if one.entry is None:
        return "" if status is None or status.is_folder else f" has gained a file {one.path} meanwhile"
    now = tree.entry(one.path)
    if now is not None and now.kind == "file":
        if (now.size, now.mode, now.stamp) == (one.entry.size, one.entry.mode, one.entry.stamp):
            return ""
        now = tree.entry(one.path, digest=True)
    return "" if now is not None and now.same_as(one.entry) else f"'s file {one.path} has changed meanwhile"


def is_other(table: Table, seen: RowAs, now: Row) -> bool:
    """Whether half of the rest of a row is not what it was: then its key may have been given to another thing since,
    which is found out by comparing again."""
    rest = [c for c in seen.before if c in now and c not in table.key and c not in seen.columns]
    unlike = [c for c in rest if not same(now[c], seen.before[c])]
    one_count = len(unlike) == 1 and isinstance(now[unlike[0]], int)  # as a counter moves with every visit
    return 0 < len(rest) <= 2 * len(unlike) and not one_count


def see_to(conditions: Iterable[RowAs], tables: Mapping[str, Table], rows: Mapping[tuple[str, Key], Row], side: Side
           ) -> None:
    """Rows are as they were seen, where that matters. rows: as they are now, by table and key. side: whose they are.
    Raises TargetMoved."""
    for one in conditions:
        now = rows.get((one.table, one.key))
        if now is None or any(not same(now.get(c), one.before[c]) for c in one.columns) or is_other(
                tables[one.table], one, now):
            raise TargetMoved(f"{one.item} changed {side.where} while it was being merged.",
                              next_step="Compare again, then merge.")


class Verifier:
    """Conditions, asked of one database. Every method raises TargetMoved where one does not hold."""

    def __init__(self, plan: Plan, target_db: Database, side: Side) -> None:
        """side: whose database it is."""
        self._plan, self._db, self._side = plan, target_db, side

    def schema(self, table: str, column: str | None = None) -> None:
        """Whether a table or column that is about to be added is not there: else it is live's own."""
        planned = any(c.table == table for c in self._plan.about(NoTable)) if column is None else any(
            (c.table, c.column) == (table, column) for c in self._plan.about(NoColumn))
        if not planned:
            return
        target_table = self._db.tables().get(table)
        if target_table is not None and (column is None or target_table.column(column) is not None):
            what = f"the table {table}" if column is None else f"the column {table}.{column}"
            raise TargetMoved(f"{self._side.capitalize()} has {what} by itself now.", next_step="Compare again.")

    def locked(self, tables: Mapping[str, Table], known: Collection[tuple[str, Key]] = ()) -> dict[
            tuple[str, Key], Row]:
        """Lock every row that must be as it was seen, some at once, in the order of their keys, and look at each.
        known: rows that are held already, and are as they were seen. Returns the others as they are."""
        seen = [one for one in self._plan.about(RowAs) if (one.table, one.key) not in known]
        by_table: dict[str, list[Key]] = {}
        for one in seen:
            by_table.setdefault(one.table, []).append(one.key)
        rows: dict[tuple[str, Key], Row] = {}
        for name, keys in sorted(by_table.items()):
            table = tables[name]
            rows.update(((name, table.key_of(row)), row) for row in self._db.locked(table, keys))
        see_to(seen, tables, rows, self._side)
        return rows

    def there(self, tables: Mapping[str, Table], pointed: Mapping[str, Mapping[Key, str]]) -> None:
        """Whether rows are there, and stay until the commit. pointed: by table and key, the item that points there."""
        for name, keys in sorted(pointed.items()):
            present = set(self._db.existing(tables[name], list(keys))) if name in tables else set()
            for key, item in keys.items():
                if key not in present:
                    raise TargetMoved(f"{item} points at {name} {key[0]!r}, which {self._side} has removed meanwhile.",
                                    next_step="Compare again, then merge.")

    def at_the_end(self, tables: Mapping[str, Table], removed: set[tuple[str, Key]],
                   inserted: Mapping[tuple[str, Key], Key]) -> None:
        """Whether what written rows point at is there, and stays until the commit; and whether their names are theirs
        alone. removed: what the merge itself removes. inserted: by table and canonical key, the keys of what was added.
        """
        pointed: dict[str, dict[Key, str]] = {}
        for one in self._plan.about(RowThere):
            if (one.table, one.key) not in removed:
                pointed.setdefault(one.table, {}).setdefault(one.key, one.item)
        self.there(tables, pointed)
        names: dict[tuple[str, str], dict[Value, NothingAlike]] = {}
        for alike in self._plan.about(NothingAlike):
            names.setdefault((alike.table, alike.column), {})[alike.value] = alike
        for (name, column), wanted in sorted(names.items()):
            for row in self._db.find_any(tables[name], column, list(wanted), {}):
                needed = wanted.get(row[column])
                if needed is not None and tables[name].key_of(row) != inserted.get((name, needed.by), needed.by):
                    raise TargetMoved(f"{needed.item} would have the {column} {needed.value!r}, which {self._side} has "
                                      "given to another meanwhile.", next_step="Compare again, then merge.")


class Removals:
    """What points at rows that are removed: looked for in one pass a table before the transaction, and inside it only
    where an index leads, and among rows that are newer than that pass."""

    def __init__(self, comparison: Comparison, plan: Plan, target_db: Database) -> None:
        """Raises TargetMoved where something points at one of them already."""
        asked = {c.item for c in plan.about(NothingPointsAt)}
        self.side = comparison.rows.target
        self._again: Obstacles | None = None
        if not asked:
            return
        items = tuple(i for i in plan.selection.items if i.id in asked)
        everywhere = Obstacles(comparison, target_db, items)
        tops: dict[str, int] = {}
        for name in everywhere.unindexed:
            table = comparison.rows.target_tables[name]
            tops[name] = (target_db.top(table) or 0) if table.surrogate else -1
        self._ask(everywhere)
        # Made before the transaction, for making it looks at all that live gained.
        self._again = Obstacles(comparison, target_db, items, tops)

    def still(self, target_db: Database) -> None:
        """Inside the transaction, in the same connection. Raises TargetMoved where something has come to point
        there."""
        if self._again is not None:
            with target_db.locking():
                self._ask(self._again)

    def _ask(self, obstacles: Obstacles) -> None:
        moved = obstacles.in_the_way()
        if moved is not None:
            raise TargetMoved(f"{self.side.capitalize()} moved on meanwhile: {moved}.", next_step="Compare again.")
