"""Trees by intervals, numbered anew where a merge puts rows into them or moves them: inside its transaction, last."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import field

from nostos.core.compare.nesting import numbered, rows_of
from nostos.core.compare.portable import Portable
from nostos.core.database.protocol import Database
from nostos.core.database.schema import Key, Row, Table, Value
from nostos.core.errors import MergeRefused
from nostos.core.profiles.model import Profile
from nostos.core.profiles.row_trees import NestedTree, parents
from nostos.core.records import dataclass
from nostos.core.values.references import Begun, begun


@dataclass
class Nesting:
    """Takes down what comes into trees while rows are written, and numbers these anew. Arguments as of `Placing`."""

    profile: Profile
    database: Database
    tables: Mapping[str, Table]
    number: Callable[[str, str], Value]
    originals: dict[tuple[str, Key], Row]
    moved: dict[tuple[str, Key], None]
    waiting: dict[tuple[str, Key], tuple[str, Begun | None]] = field(default_factory=dict)
    new: set[tuple[str, Key]] = field(default_factory=set)

    def apart(self, table: str, values: Mapping[str, object]) -> tuple[Portable, Begun | None]:
        """Values without what a tree will give, and what the row is to be below, where they say that."""
        tree = self.profile.nested_of(table)
        up = begun(values.get(tree.tells)) if tree is not None and tree.tells else None
        return {c: v for c, v in values.items() if up is None or tree is None or c != tree.tells}, up

    def wait(self, item: str, table: str, key: Key, up: Begun | None, new: bool = False) -> None:
        """Note where a row is to be, until all rows are written: only then bounds can be given out."""
        tree = self.profile.nested_of(table)
        if tree is not None and (new or up is not None or tree.parent):
            self.waiting[table, key] = (item, up)
            if new:
                self.new.add((table, key))

    def settle(self) -> dict[tuple[str, Key], frozenset[str]]:
        """Number the trees. Returns the columns that were set, by table and key. Raises MergeRefused where a row would
        come to stand below itself."""
        written: dict[tuple[str, Key], frozenset[str]] = {}
        for tree in self.profile.nested:
            table = self.tables.get(tree.table)
            if table is not None and any(name == tree.table for name, _ in self.waiting):
                written.update(self._number(tree, table))
        return written

    def _number(self, tree: NestedTree, table: Table) -> dict[tuple[str, Key], frozenset[str]]:
        key = table.key[0]
        rows = {row[key]: row for row in rows_of(self.database, table, tree)}
        new = [k for (name, (k, *_)) in self.new if name == tree.table]
        old = parents([row for k, row in rows.items() if k not in new], key, tree)
        above: dict[Value, Value] = {}
        numbers: set[Value] = set()  # whose place is told or whose depth is off, where what was between is gone by now
        for k, row in rows.items():
            _, up = self.waiting.get((tree.table, (k,)), ("", None))
            if up is not None:
                numbers.add(k)
                above[k] = self.number(up.table, up.name) if up.name else None
            elif tree.parent:
                above[k] = row[tree.parent] or None
            else:
                above[k] = old.get(k)
        for k in rows:
            self._check(k, above)
        order = sorted(rows, key=lambda k: (k in new or above[k] != old.get(k), str(rows[k].get(tree.tree) or ""),
                                            int(str(rows[k][tree.left] or 0))))
        wanted = numbered(tree, {k: above[k] for k in order}, {k: r for k, r in rows.items() if k not in new})
        numbers.update(k for name, (k, *_) in self.waiting if name == tree.table and k in rows and tree.depth
                    and rows[k].get(tree.depth) != wanted[k][tree.depth])
        shifted = [k for k in rows if k in new or k in numbers or above[k] != old.get(k)]
        changed = {_top(k, up) for k in shifted for up in (above, old) if k in up}
        if tree.tree:  # of several trees, those that nothing came into stay as they are
            wanted = {k: v for k, v in wanted.items() if _top(k, above) in changed}
        wanted = wanted if shifted else {}
        written: dict[tuple[str, Key], frozenset[str]] = {}
        for k, values in wanted.items():
            values = {c: v for c, v in values.items() if rows[k].get(c) != v}
            if values:
                self._write(table, (k,), values)
                written[tree.table, (k,)] = frozenset(values)
        return written

    @staticmethod
    def _check(key: Value, above: Mapping[Value, Value]) -> None:
        """Raises MergeRefused where a row would stand below itself."""
        seen = {key}
        up = above.get(key)
        while up is not None and up in above:
            if up in seen:
                raise MergeRefused("A row would come to stand below itself.",
                                   next_step="Compare again; leave the moved items out if it stays so.")
            seen.add(up)
            up = above[up]

    def _write(self, table: Table, key: Key, values: Row) -> None:
        place = (table.name, key)
        if place not in self.waiting and place not in self.originals:
            before = self.database.fetch_locked(table, key)
            if before is not None:
                self.originals[place] = before
                self.moved[place] = None
        self.database.update(table, key, values)


def _top(key: Value, above: Mapping[Value, Value]) -> Value:
    """The row above all that are above another."""
    while above.get(key) is not None and above[key] in above:
        key = above[key]
    return key
