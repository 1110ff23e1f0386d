"""The ledger: the proof that everything live gained since the anchor is still there, and equal, after a merge.

It is read from live itself, inside the merge's own transaction, once before anything is written and once after, and the
merge is taken back when the two differ.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass

from nostos.core.database.base import Database
from nostos.core.database.digests import row_digest
from nostos.core.database.schema import Key
from nostos.core.decisions import is_decided
from nostos.core.errors import MergeRefused
from nostos.core.fields import Standing, same
from nostos.core.items import Comparison
from nostos.core.operations import Plan, RemoveRow, UpdateRow
from nostos.core.profiles.model import Policy
from nostos.core.tree.entries import Entry

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
        return self.before == self.after


@dataclass(frozen=True)
class Watched:
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
    entry: Entry | None
    action: str


class Ledger:
    """What live gained since the anchor, to be digested before and after."""

    def __init__(self, comparison: Comparison, plan: Plan) -> None:
        self._rows: list[Watched] = []
        self._files: list[WatchedFile] = []
        self._blended: Counter[str] = Counter()
        written = {(o.table, o.key): set(o.values) for o in plan.of(UpdateRow)}
        taken = {f.path for f in plan.settled_files}
        rows = comparison.rows
        derived = {(d.table, d.column) for d in rows.profile.derived}
        removed = {(o.table, o.key) for o in plan.of(RemoveRow)}
        chosen = {i.id for i in plan.selection.items}
        for item in comparison.items.values():
            if item.id in chosen:
                self._blended[item.kind] += sum(
                    1 for f in item.going if f.standing is Standing.BLENDED and f.merged.policy is not Policy.NEWEST)
            root = next((r for r in item.rows if r.id == item.root), None)
            did = "edited" if root is None or (root.base and root.live) else "gained" if root.live else "removed"
            for state in item.rows:
                if state.live_key is None or (state.base is None and state.live is None):
                    continue
                if state.live is None:
                    self._rows.append(Watched(item.kind, state.table, state.live_key, (), did, item.id))
                    continue
                if (state.table, state.live_key) in removed and is_decided(item):
                    continue  # live had changed it, and it was decided that it goes
                mine = written.get((state.table, state.live_key), set())
                columns = tuple(
                    c for c in state.live_raw or {} if c not in mine and (state.table, c) not in derived
                    and (state.base is None or not same(state.base.get(c), state.live.get(c))))
                if columns:
                    self._rows.append(Watched(item.kind, state.table, state.live_key, columns, did, item.id))
            for file in item.files:
                if file.standing in (Standing.KEPT, Standing.CLASH) and file.path not in taken:
                    action = "gained" if file.base is None else "removed" if file.live is None else "edited"
                    self._files.append(WatchedFile("file", file.path, file.live, action))

    def digests(self, live_db: Database, file_digest: Callable[[str], bytes | None]) -> dict[str, int]:
        """A digest per kind over everything watched, as live has it now."""
        tables = live_db.tables()
        totals: dict[str, int] = {}
        by_table: dict[str, list[Watched]] = {}
        for w in self._rows:
            by_table.setdefault(w.table, []).append(w)
        for name, watched in by_table.items():
            for at in range(0, len(watched), _AT_ONCE):
                part = watched[at:at + _AT_ONCE]
                table = tables.get(name)
                there = {} if table is None else {
                    table.key_of(r): r for r in live_db.fetch_many(table, [w.key for w in part])}
                for w in part:
                    row = there.get(w.key)
                    values = [name, repr(w.key), *(("gone",) if row is None else (row.get(c) for c in w.columns))]
                    totals[w.kind] = totals.get(w.kind, 0) ^ int.from_bytes(row_digest(values))
        for f in self._files:
            found = file_digest(f.path)
            totals[f.kind] = totals.get(f.kind, 0) ^ int.from_bytes(row_digest([f.path, found]))
        return totals

    def prove(self, before: dict[str, int], after: dict[str, int]) -> tuple[Line, ...]:
        """The ledger's lines. Raises MergeRefused when anything that live gained is not as it was."""
        lines = []
        for kind in sorted(before | +self._blended):
            def count(action: str, kind: str = kind) -> int:
                rows = len({w.item for w in self._rows if w.kind == kind and w.action == action})
                return rows + sum(1 for f in self._files if f.kind == kind and f.action == action)

            lines.append(Line(kind, count("gained"), count("edited"), count("removed"), self._blended[kind],
                              f"{before.get(kind, 0):032x}"[:12], f"{after.get(kind, 0):032x}"[:12]))
        broken = [kind for kind in before if before[kind] != after.get(kind)]
        if broken:
            raise MergeRefused(f"The ledger does not hold for {', '.join(broken)}: live would have lost something.",
                               left="The merge was taken back; live is as it was.",
                               next_step="Please report this with `nostos compare --json`.")
        return tuple(lines)
