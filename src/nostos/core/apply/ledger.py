"""The ledger: the proof that everything live gained since the anchor is still there, and equal, after a merge.

It is read from live itself: before the transaction, and after the commit. Inside, while visitors may have to wait, only
those rows are read that the merge could reach at all: the ones that it writes, and those of tables that live's own
triggers may change on the way; and the merge is taken back where one of them is not as it was. What differs after the
commit in a row that it could not reach, live has changed itself meanwhile.

A thing is more than its own row: an order that has one line more than before is not the same order. So the merge is
taken back as well where a row that it wrote belongs to, or points at, something that live alone has gained.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence

from nostos.core.apply.rows.changed import RowChange
from nostos.core.compare.field_merge import Standing
from nostos.core.compare.items import Comparison
from nostos.core.compare.row_states import Rows
from nostos.core.database.protocol import Database
from nostos.core.database.rows.digests import row_digest
from nostos.core.database.schema import Key, Row
from nostos.core.errors import MergeRefused, SiteError
from nostos.core.files.entry import FileEntry
from nostos.core.files.tree import FileTree, Signature
from nostos.core.plan.decisions import is_decided
from nostos.core.plan.operations import InsertRow, Plan, RemoveRow, UpdateRow
from nostos.core.profiles.conditions import Where, holds
from nostos.core.records import dataclass
from nostos.core.values.merging import same

_AT_ONCE = 1000  # rows


@dataclass(frozen=True)
class Line:
    """One kind of item: how many live gained, edited and removed since the anchor, and their digests, in hex.

    blended: how many of live's edits now stand in one value together with staging's; those are not digested.
    """

    kind: str
    gained: int
    edited: int
    removed: int
    blended: int
    before: str
    after: str

    @property
    def holds(self) -> bool:
        """Whether everything of this kind that live gained is as it was before."""
        return self.before == self.after


@dataclass(frozen=True, slots=True)
class WatchedRow:
    """A row that live gained or changed: the columns that were not the merge's to change."""

    kind: str
    table: str
    key: Key
    columns: tuple[str, ...]
    action: str  # what live did with the item: "gained", "edited" or "removed"
    item: str


@dataclass(frozen=True)
class WatchedFile:
    kind: str
    path: str
    entry: FileEntry | None
    action: str


class Ledger:
    """What live gained since the anchor, to be digested before and after."""

    def __init__(self, comparison: Comparison, plan: Plan) -> None:
        self._side = comparison.rows.target
        self._rows: list[WatchedRow] = []
        self._files: list[WatchedFile] = []
        self._blended: Counter[str] = Counter()
        self._by_row: dict[tuple[str, Key], list[WatchedRow]] = {}
        self._events = _events(plan)
        self._before: dict[WatchedRow, bytes] = {}
        self._reached: list[WatchedRow] = []  # in tables that triggers may change
        self._triggered: set[str] = set()  # tables whose own triggers act when the merge writes to them
        self._stamped: set[WatchedRow] = set()  # what these did to rows that the merge writes: live's own doing
        self._files_before: dict[str, Signature | None] = {}
        self._foreseen: set[str] = set()  # kinds that would be broken by what is known ahead
        self._whole = _Whole(comparison)
        written = {(o.table, o.key): set(o.values) for o in plan.of(UpdateRow)}
        taken = {f.path for f in plan.settled_files}
        rows = comparison.rows
        # Where rows are in trees is proved where it is given out (apply/rows/placing, apply/rows/nesting).
        derived = {(d.table, d.column) for d in rows.profile.derived} | rows.profile.placed
        removed = {(o.table, o.key) for o in plan.of(RemoveRow)}
        chosen = {i.id for i in plan.selection.items}
        for item in comparison.items.values():
            if item.id in chosen:
                self._blended[item.kind] += sum(
                    1 for f in item.going if f.standing is Standing.BLENDED and not f.merged.policy.quiet)
            root = next((r for r in item.rows if r.id == item.root), None)
            did = "edited" if root is None or (root.base and root.target) else "gained" if root.target else "removed"
            for state in item.rows:
                if state.target_key is None or (state.base is None and state.target is None):
                    continue
                if state.target is None:
                    self._rows.append(WatchedRow(item.kind, state.table, state.target_key, (), did, item.id))
                    continue
                if (state.table, state.target_key) in removed and is_decided(item):
                    continue  # live had changed it, and it was decided that it goes
                mine = written.get((state.table, state.target_key), set())
                columns = tuple(
                    c for c in state.target_raw or {} if c not in mine and (state.table, c) not in derived
                    and (state.base is None or not same(state.base.get(c), state.target.get(c))))
                if columns:
                    self._rows.append(WatchedRow(item.kind, state.table, state.target_key, columns, did, item.id))
            for file in item.files:
                if file.standing in (Standing.KEPT, Standing.CLASH) and file.path not in taken:
                    action = "gained" if file.base is None else "removed" if file.target is None else "edited"
                    self._files.append(WatchedFile("file", file.path, file.target, action))

    # --- before the transaction, inside it, after the commit

    def look(self, target_db: Database, tree: FileTree) -> None:
        """Read everything watched, before anything is done."""
        self._before = self._read(target_db, self._rows)
        self._by_row = {}
        for w in self._rows:
            self._by_row.setdefault((w.table, w.key), []).append(w)
        effects = target_db.side_effects(self._events)
        self._triggered = target_db.triggered(self._events)
        self._reached = [w for w in self._rows if w.table in effects]
        self._files_before = {f.path: _signature(tree, f.path) for f in self._files}

    def begin(self, target_db: Database) -> None:
        """Inside the transaction, before anything is written: read again what triggers might reach."""
        self._before.update(self._read(target_db, self._reached))

    def foresee(self, changes: Sequence[RowChange]) -> None:
        """Of rows that are known as they will be before anything is held: do what `prove` does of all others. changes:
        all of these; what was foreseen before does not count."""
        self._foreseen = self._broken_by(changes, {})

    def prove(self, target_db: Database, changes: Sequence[RowChange]) -> None:
        """Inside the transaction, when all is written. changes: what was not foreseen. Raises MergeRefused when
        anything that live gained and that the merge could reach is not as it was."""
        broken = sorted(self._foreseen | self._broken_by(changes, self._read(target_db, self._reached)))
        if broken:
            raise MergeRefused(f"The ledger does not hold for {', '.join(broken)}: what {self._side} gained would be "
                               "changed.",
                               left=f"The merge was taken back; {self._side} is as it was.",
                               next_step=f"Look at {self._side}'s triggers; then please report this with "
                                         "`nostos compare --json`.")

    def _broken_by(self, changes: Sequence[RowChange], after: dict[WatchedRow, bytes]) -> set[str]:
        """The kinds of what is not as it was. after: what was read again; what changes say is added."""
        for changed in changes:
            for w in self._by_row.get((changed.table, changed.key), ()) if changed.before is not None else ():
                if w not in after:
                    self._before[w] = _digest(w, changed.before)
                    after[w] = _digest(w, changed.after)
                if after[w] != self._before[w] and changed.after is not None and w.table in self._triggered:
                    self._stamped.add(w)  # it was meant to be written, and that is what live does to such a row
                    self._before[w] = after[w]
        return {w.kind for w, digest in after.items() if digest != self._before[w]} | self._whole.added_to(changes)

    def look_again(self, target_db: Database, tree: FileTree) -> tuple[tuple[Line, ...], int]:
        """After the commit. Returns the ledger's lines, and how many watched things live has changed itself since they
        were first read: these do not count in the digests."""
        totals: dict[str, list[int]] = {}
        late = len(self._stamped)
        after = self._read(target_db, self._rows)
        for w, digest in after.items():
            late += digest != self._before[w]
            self._add(totals, w.kind, self._before[w], digest)
        for f in self._files:
            now = _signature(tree, f.path)
            as_known = now == self._files_before[f.path] or self._same_file(tree, f)
            late += not as_known
            known = row_digest([f.path, f.entry.digest if f.entry else None])
            self._add(totals, f.kind, known, known if as_known else b"")
        return tuple(self._lines(totals)), late

    @staticmethod
    def _add(totals: dict[str, list[int]], kind: str, before: bytes, after: bytes) -> None:
        total = totals.setdefault(kind, [0, 0])
        if before == after:
            total[0] ^= int.from_bytes(before)
            total[1] ^= int.from_bytes(after)

    @staticmethod
    def _same_file(tree: FileTree, f: WatchedFile) -> bool:
        entry = tree.entry(f.path, digest=True)
        return entry is None if f.entry is None else entry is not None and entry.digest == f.entry.digest

    def _read(self, target_db: Database, watched: list[WatchedRow]) -> dict[WatchedRow, bytes]:
        tables = target_db.tables() if watched else {}
        versions: dict[WatchedRow, bytes] = {}
        by_table: dict[str, list[WatchedRow]] = {}
        for w in watched:
            by_table.setdefault(w.table, []).append(w)
        for name, some in by_table.items():
            table = tables.get(name)
            for at in range(0, len(some), _AT_ONCE):
                part = some[at:at + _AT_ONCE]
                present = {} if table is None else {
                    table.key_of(r): r for r in target_db.fetch_many(table, [w.key for w in part])}
                versions.update((w, _digest(w, present.get(w.key))) for w in part)
        return versions

    def _lines(self, totals: dict[str, list[int]]) -> Iterator[Line]:
        for kind in sorted(totals.keys() | +self._blended):
            def count(action: str, kind: str = kind) -> int:
                rows = len({w.item for w in self._rows if w.kind == kind and w.action == action})
                return rows + sum(1 for f in self._files if f.kind == kind and f.action == action)

            before, after = totals.get(kind, (0, 0))
            yield Line(kind, count("gained"), count("edited"), count("removed"), self._blended[kind],
                       f"{before:032x}"[:12], f"{after:032x}"[:12])


class _Whole:
    """What live alone has gained, with all that may point at it: a merge knows of none of it, so it adds nothing."""

    def __init__(self, comparison: Comparison) -> None:
        self._gained = {(state.table, state.target_key): item.kind for item in comparison.items.values()
                        for state in item.rows if state.target is not None and state.target_key is not None
                        and state.base is None and state.source is None}
        # By table: a column, the table that it points at, and for which rows, as far as these say it themselves.
        self._pointing: dict[str, set[tuple[str, str, Where]]] = {}
        profile = comparison.rows.profile
        for child in profile.children:
            where = child.where if self._tells(comparison.rows, child.table, child.where) else ()
            self._pointing.setdefault(child.table, set()).add((child.of, child.owner, where))
        for r in profile.references:
            if r.is_key and self._tells(comparison.rows, r.table, r.where):
                self._pointing.setdefault(r.table, set()).add((r.column, r.to, r.where))

    @staticmethod
    def _tells(rows: Rows, table: str, where: Where) -> bool:
        """Whether a table's rows say themselves whether a condition holds for them."""
        return table in rows.every_table and all(rows.table(table).column(c) is not None for c, _ in where)

    def added_to(self, changes: Sequence[RowChange]) -> set[str]:
        """The kinds of those things that a row written by the merge belongs to or points at since."""
        added = set()
        for row in changes:
            if row.after is None:
                continue
            for column, table, where in self._pointing.get(row.table, ()):
                value = row.after.get(column)
                if not holds(where, row.after):
                    continue
                if row.before is None or not same(row.before.get(column), value):
                    kind = self._gained.get((table, (value,)))
                    if kind is not None:
                        added.add(kind)
        return added


def _events(plan: Plan) -> dict[str, set[str]]:
    events: dict[str, set[str]] = {}
    for o in plan.of(InsertRow, UpdateRow, RemoveRow):
        events.setdefault(o.table, set()).add(
            "INSERT" if isinstance(o, InsertRow) else "UPDATE" if isinstance(o, UpdateRow) else "DELETE")
    return events


def _digest(w: WatchedRow, row: Row | None) -> bytes:
    return row_digest([w.table, repr(w.key), *(("gone",) if row is None else (row.get(c) for c in w.columns))])


def _signature(tree: FileTree, path: str) -> Signature | None:
    try:
        return tree.signature(path)
    except SiteError:  # a link leads there now
        return None
