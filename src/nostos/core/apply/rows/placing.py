"""Places in trees, given out anew: where live's is taken, the next free one; what is below goes along.

A row's place follows from the row above it and a step of its own (see compare/places). So what a merge writes is
settled last, inside its transaction, when all rows are there: first every row that has to move lets go of its place,
then each is given its new one, from the top down; depths, addresses and the numbers of children follow.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from dataclasses import field

from nostos.core.anchor.names import Side
from nostos.core.compare.portable import Portable
from nostos.core.database.protocol import Database
from nostos.core.database.schema import Key, Row, Table, Value
from nostos.core.errors import MergeRefused
from nostos.core.profiles.model import Profile
from nostos.core.profiles.row_trees import RowTree
from nostos.core.records import dataclass
from nostos.core.values.references import Begun, begun, write
from nostos.core.values.tokens import unescape

_NEXT = "Compare again; leave the moved items out if it stays so."


@dataclass
class _Waiting:
    """A row whose place is to be settled: the item that it is of, and its columns as what is above and the rest."""

    item: str
    columns: dict[str, Begun]
    new: bool


@dataclass
class Placing:
    """Takes down what is to be placed while rows are written, and settles it.

    number: the target's key of a row by its canonical name, or raises Unresolved. found: rows as they were before they
    were touched, by table and key; rows that are moved along are added. side: whose database it is.
    """

    profile: Profile
    database: Database
    tables: Mapping[str, Table]
    number: Callable[[str, str], Value]
    originals: dict[tuple[str, Key], Row]
    side: Side
    moved: dict[tuple[str, Key], None] = field(default_factory=dict)  # rows that the operations do not name
    waiting: dict[tuple[str, Key], _Waiting] = field(default_factory=dict)
    gone: list[tuple[str, Row]] = field(default_factory=list)
    drafts: int = 0

    def apart(self, table: str, values: Mapping[str, object]) -> tuple[Portable, dict[str, Begun]]:
        """Values without places, and the places."""
        tree = self.profile.tree_of(table)
        places = {c: up for c in (tree.placed if tree else ()) if (up := begun(values.get(c))) is not None}
        return {c: v for c, v in values.items() if c not in places}, places

    def draft(self) -> str:
        """A place that no row has, until the row's own is known."""
        self.drafts += 1
        return f"~{self.drafts}"

    def wait(self, item: str, table: str, key: Key, places: dict[str, Begun], new: bool = False) -> None:
        """Note where a row is to be in its tree, until all rows are written."""
        if places:
            self.waiting[table, key] = _Waiting(item, places, new)

    def remove(self, table: str, row: Row) -> None:
        """Note that a row goes, for what its tree counts of it."""
        if self.profile.tree_of(table) is not None:
            self.gone.append((table, row))

    def settle(self) -> dict[tuple[str, Key], frozenset[str]]:
        """Give out all places. Returns the columns that were set, by table and key. Raises MergeRefused where a row
        would come to stand below itself."""
        written: dict[tuple[str, Key], frozenset[str]] = {}
        names = {t for t, _ in self.waiting} | {t for t, _ in self.gone}
        with self.database.locking():
            for tree in self.profile.trees:
                if tree.table in names and tree.table in self.tables:
                    work = _TreeInPlace(self, tree, self.tables[tree.table])
                    written.update({(tree.table, key): frozenset(values) for key, values in work.run().items()})
        return written


class _TreeInPlace:
    def __init__(self, placing: Placing, tree: RowTree, table: Table) -> None:
        self.placing, self.tree, self.table = placing, tree, table
        self.database = placing.database
        self.placed = {key: w for (name, key), w in placing.waiting.items() if name == tree.table}
        self.were = {table.key_of(row): row for row in self.database.locked(table, list(self.placed))}
        self.root: dict[Key, Key] = {}  # rows that are below placed ones, and the nearest of these
        self.values: dict[Key, Row] = {}  # what is to be set
        self.given: set[str] = set()
        self.entered: set[Key] = set()
        self.parents: dict[Key, Key | None] = {}  # of placed rows, as they are to be

    def run(self) -> dict[Key, Row]:
        below = dict(self._below())
        self.were.update(below)
        paths = [self.tree.path] if self.tree.path else []
        for key, waits in sorted(self.placed.items(), key=lambda p: self._rank(p[0], p[1])):
            self._place(key, waits)
        for key in below:
            self._follow(key)
        departed, arrived = self._counted()
        changed = {key: {c: v for c, v in values.items() if self.were[key].get(c) != v}
                   for key, values in self.values.items()}
        for key, values in changed.items():
            if key not in self.placed and values:
                self._along(key, self.were[key])
            if any(c in values for c in paths):  # what others are to have is let go of first
                self.database.update(self.table, key, {self.tree.path: self.placing.draft()})
        for key, values in changed.items():
            if values:
                self.database.update(self.table, key, values)
        self._count(departed, arrived, changed)
        self._prove()
        return changed

    def _rank(self, key: Key, waits: _Waiting) -> tuple[bool, str]:
        """What stays where it is comes first; then in the order of the steps."""
        path = waits.columns.get(self.tree.path)
        return (waits.new or (path is not None and not str(self.were[key].get(self.tree.path)).endswith(path.rest)),
                path.rest if path is not None else "")

    # --- who is below

    def _below(self) -> Iterator[tuple[Key, Row]]:
        """The rows below those that are placed, but for placed ones: locked, as they are now."""
        if self.tree.path:
            yield from self._below_paths()
            return
        level = [key for key, w in self.placed.items() if not w.new]
        roots = {key[0]: key for key in level}
        while level:
            rows = [row for row in self.database.find_any(self.table, self.tree.parent, [k[0] for k in level], {})
                    if row[self.tree.parent] in roots]
            level = []
            for row in rows:
                key = self.table.key_of(row)
                if key not in self.placed and key not in self.root:
                    self.root[key] = roots[row[self.tree.parent]]
                    roots[key[0]] = self.root[key]
                    level.append(key)
            yield from ((self.table.key_of(row), row) for row in self.database.locked(self.table, level))

    def _below_paths(self) -> Iterator[tuple[Key, Row]]:
        heads = {str(self.were[key][self.tree.path]): key for key, w in self.placed.items() if not w.new}
        tops = [h for h in heads if not any(o != h and self._is_below(h, o) for o in heads)]
        for top in tops:
            keys = [self.table.key_of(row) for row in self.database.beginning(self.table, self.tree.path, top)
                    if self._is_below(str(row[self.tree.path]), top)]
            for row in self.database.locked(self.table, [k for k in keys if k not in self.placed]):
                up: str | None = self.tree.above(str(row[self.tree.path]))
                while up and up not in heads:
                    up = self.tree.above(up)
                if up:
                    self.root[self.table.key_of(row)] = heads[up]
                    yield self.table.key_of(row), row

    def _is_below(self, path: str, top: str) -> bool:
        up = self.tree.above(path)
        while up and up != top and up.startswith(top):
            up = self.tree.above(up)
        return up == top

    # --- what each is to have

    def _place(self, key: Key, waits: _Waiting) -> None:
        if key in self.values:
            return
        if key in self.entered:
            raise MergeRefused(f"{waits.item} would come to stand below itself.", next_step=_NEXT)
        self.entered.add(key)
        some = next(iter(waits.columns.values()))
        parent: Key | None = (self.placing.number(some.table, some.name),) if some.name else None
        if parent is not None:
            self._known(parent, waits.item)
        values: Row = {}
        for column, up in waits.columns.items():
            rest = unescape(write(up.rest, lambda table, name: str(self.placing.number(table, name))))
            head = "" if parent is None else str(self._value(parent, column))
            values[column] = self._free(key, head, rest, waits.item) if column == self.tree.path else head + rest
        self.values[key] = values
        self.parents[key] = parent
        if parent is not None and not waits.new:
            values.update(self._kept(key, parent, waits))
        if self.tree.depth:
            above = None if parent is None else self._value(parent, self.tree.depth)
            values[self.tree.depth] = self.tree.depth_base if above is None else int(str(above)) + 1
        if self.tree.path and self.tree.path in values:
            self.given |= {self._moved_to(k, self.tree.path) for k, root in self.root.items() if root == key}

    def _kept(self, key: Key, parent: Key, waits: _Waiting) -> Row:
        """What is not to change of a row's place but for what is above."""
        row = self.were[key]
        up = self._above(row)
        kept: Row = {}
        for column in self.tree.placed:
            value, head = row.get(column), (up or {}).get(column)
            texts = isinstance(value, str) and isinstance(head, str)
            if column not in waits.columns and texts and str(value).startswith(str(head)):
                kept[column] = str(self._value(parent, column)) + str(value)[len(str(head)):]
                if column == self.tree.path:
                    self.given.add(str(kept[column]))
        return kept

    def _above(self, row: Row) -> Row | None:
        """The row above one, before anything is moved."""
        wanted = self.tree.up(row)
        column = self.tree.path or self.table.key[0]
        return next(iter(self.database.find(self.table, {column: wanted})), None) if wanted else None

    def _known(self, key: Key, item: str) -> None:
        """Make sure that the values that a row will have are known."""
        above = self.placed.get(self.root.get(key, key))
        if above is not None:
            self._place(self.root.get(key, key), above)
        elif key not in self.were:
            row = self.database.fetch_locked(self.table, key)
            if row is None:
                raise MergeRefused(f"{item} is to stand below a row that {self.placing.side} does not have.",
                                   next_step=_NEXT)
            self.were[key] = row

    def _value(self, key: Key, column: str) -> Value:
        """What a row will have."""
        if key in self.root:
            return self._depth_of(key) if column == self.tree.depth else self._moved_to(key, column)
        return self.values.get(key, {}).get(column, self.were[key].get(column))

    def _moved_to(self, key: Key, column: str) -> str:
        """A value of a row that goes along: with the new beginning in place of the old one."""
        root = self.root[key]
        old, value = str(self.were[root].get(column)), str(self.were[key].get(column))
        new = str(self._value(root, column))
        return new + value[len(old):] if value.startswith(old) else value

    def _depth_of(self, key: Key) -> int:
        root = self.root[key]
        return int(str(self.were[key][self.tree.depth])) + int(str(self._value(root, self.tree.depth))) - int(
            str(self.were[root][self.tree.depth]))

    def _follow(self, key: Key) -> None:
        values: Row = {c: self._moved_to(key, c) for c in self.tree.placed if isinstance(self.were[key].get(c), str)}
        if self.tree.depth:
            values[self.tree.depth] = self._depth_of(key)
        self.values[key] = values

    def _free(self, key: Key, head: str, rest: str, item: str) -> str:
        """The place that is wanted below another, or the next one that is free there."""
        path = head + rest
        if self._taken(key, path):
            if not self.tree.step:
                raise MergeRefused(f"{item} is to stand at {path!r}, where {self.placing.side} has another by now.",
                                   next_step=_NEXT)
            steps = [p[len(head):] for p in (*self._children(head), *self.given)
                     if p.startswith(head) and len(p) == len(head) + self.tree.step]
            path = head + self._after(max(steps), item)
        self.given.add(path)
        return path

    def _taken(self, key: Key, path: str) -> bool:
        if path in self.given:
            return True
        keys = [self.table.key_of(row) for row in self.database.find(self.table, {self.tree.path: path})]
        return any(k != key and self._stays(k, path) for k in keys)

    def _stays(self, key: Key, path: str) -> bool:
        """Whether a row that is at a path now will be there."""
        if key in self.root:
            return self._value(self.root[key], self.tree.path) == self.were[self.root[key]].get(self.tree.path)
        waits = self.placed.get(key)
        return waits is None or (self.tree.path not in waits.columns)

    def _children(self, head: str) -> Iterator[str]:
        for row in self.database.beginning(self.table, self.tree.path, head):
            path = str(row[self.tree.path])
            if self.tree.above(path) == head and self._stays(self.table.key_of(row), path):
                yield path

    def _after(self, step: str, item: str) -> str:
        """The step after another, in the tree's own alphabet."""
        letters = list(step)
        for at in range(len(letters) - 1, -1, -1):
            place = self.tree.alphabet.find(letters[at])
            if 0 <= place < len(self.tree.alphabet) - 1:
                letters[at] = self.tree.alphabet[place + 1]
                return "".join(letters)
            letters[at] = self.tree.alphabet[0]
        raise MergeRefused(f"There is no place left where {item} is to stand in {self.table.name}.",
                           next_step="Make room there by hand, then merge.")

    # --- what follows

    def _counted(self) -> tuple[Counter[Key], Counter[Key]]:
        """Which rows lose children, and which gain some."""
        lost: Counter[Key] = Counter()
        gained: Counter[Key] = Counter()
        if not self.tree.children:
            return lost, gained
        removed = [row for name, row in self.placing.gone if name == self.tree.table]
        left = [(key, self.were[key]) for key, w in self.placed.items()
                if not w.new and self.tree.path in w.columns]
        for row in (*removed, *(row for _, row in left)):
            parent = self._parent_of(row)
            if parent is not None:
                lost[parent] += 1
        for key, parent in self.parents.items():
            if parent is not None and (self.placed[key].new or self.tree.path in self.placed[key].columns):
                gained[parent] += 1
        return lost, gained

    def _parent_of(self, row: Row) -> Key | None:
        up = self._above(row)
        return self.table.key_of(up) if up is not None else None

    def _count(self, lost: Counter[Key], gained: Counter[Key], changed: dict[Key, Row]) -> None:
        column = self.tree.children
        new = [key for key, w in self.placed.items() if w.new and column]
        keys = {*lost, *gained, *new}
        for row in self.database.locked(self.table, [k for k in keys if lost[k] != gained[k] or k in new]):
            key = self.table.key_of(row)
            start = 0 if key in new else int(str(row[column] or 0))
            count = max(0, start + gained[key] - lost[key])
            if count != row[column]:
                if key not in self.placed:
                    self._along(key, self.were.get(key, row))
                self.database.update(self.table, key, {column: count})
                changed.setdefault(key, {})[column] = count

    def _along(self, key: Key, before: Row) -> None:
        """Note a row that no operation names as touched."""
        if (self.table.name, key) not in self.placing.originals:
            self.placing.originals[self.table.name, key] = before
            self.placing.moved[self.table.name, key] = None

    def _prove(self) -> None:
        """The law of a tree: what is above every row that was placed is there."""
        for row in self.database.fetch_many(self.table, list(self.placed)) if self.tree.path else ():
            up = self.tree.above(str(row[self.tree.path]))
            if up is None or (up and not self.database.find(self.table, {self.tree.path: up})):
                raise MergeRefused(f"{self.placed[self.table.key_of(row)].item} would stand below nothing.",
                                   next_step=_NEXT)
