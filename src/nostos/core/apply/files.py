"""The file side of a merge: staged beside the targets, renamed into place together, taken back together if anything
fails.

What is going to happen is known, as data, before anything is touched, so that it can be journaled; and taking it back
looks at what is there, so that it works from any point at which it was cut short, by this process, by another, or by
a power cut that forgot whatever was not flushed.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from nostos.core.apply.folders import FolderSwitch, Kept
from nostos.core.errors import LiveMoved, MergeRefused
from nostos.core.files.entry import OWN_PREFIX, Entry
from nostos.core.files.tree import FileTree, Signature
from nostos.core.files.trees import tree_at
from nostos.core.plan.operations import Operation, PutFile, RemoveFile, SwitchFolder, changes_of

_SPARE = 16 * 1024 * 1024  # bytes that are left free on live's disk


@dataclass(frozen=True)
class Move:
    """One target: what is staged for it (None: it goes away), and where what was there is put aside. All are paths in
    the tree that is written.

    had: whether something was there. old, new: digests of a file that goes, and of one that comes; None for folders.
    folder: it is switched as one.
    """

    target: str
    staged: str | None
    aside: str
    had: bool
    old: bytes | None = None
    new: bytes | None = None
    folder: bool = False


@dataclass
class Switch:
    """Nothing is visible on live until `go`; `back` takes it all back.

    live: the tree that is written. staging: where what comes lies. mark: the operation's id. makes: folders to be
    made. empties: folders that go when they are empty at the end, as they do in staging. modes: folders whose rights
    change: path, new and old. carried: paths of what live itself wrote meanwhile into a folder that was switched, and
    that was carried over.
    """

    live: FileTree
    staging: FileTree
    mark: str
    moves: list[Move] = field(default_factory=list)
    makes: list[str] = field(default_factory=list)
    empties: list[str] = field(default_factory=list)
    modes: list[tuple[str, int, int]] = field(default_factory=list)
    fresh: dict[str, int] = field(default_factory=dict)  # target -> the inode of what is staged for it
    folders: dict[str, FolderSwitch] = field(default_factory=dict)  # by target
    carried: list[str] = field(default_factory=list)
    _seen: dict[str, Signature | None] = field(default_factory=dict)

    # --- planning

    def plan(self, operations: Sequence[Operation]) -> None:
        """Work out what will happen; nothing is touched. Raises LiveMoved when live's file is not as compared,
        MergeRefused when space is short."""
        work = [o for o in operations if isinstance(o, PutFile | RemoveFile | SwitchFolder)]
        self._check_space(work)
        for o in work:
            for change in changes_of(o):
                self._check(change.path, change.before)
            if isinstance(o, PutFile) and o.entry.kind == "folder":
                there = self.live.status(o.path)
                if there is not None and not there.is_folder:
                    self._will_move(o)
                    continue
                self._will_make(o.path)
                if there is not None and there.rights != o.entry.mode:
                    self.modes.append((o.path, o.entry.mode, there.rights))
            elif isinstance(o, RemoveFile) and o.before.kind == "folder":
                self._may_go(o.path)
            else:
                self._will_move(o)

    def _will_move(self, o: PutFile | RemoveFile | SwitchFolder) -> None:
        parent = o.path.rpartition("/")[0]
        goes = isinstance(o, RemoveFile)
        if goes:
            self._may_go(parent)
        else:
            self._will_make(parent)
        own = f"{parent}/" if parent else ""
        name = f"{own}{OWN_PREFIX}{self.mark}-{len(self.moves)}"  # short, whatever the file's own name is
        move = Move(o.path, None if goes else name + "n", name + "o", self.live.status(o.path) is not None,
                    None if isinstance(o, SwitchFolder) or o.before is None else o.before.digest,
                    o.entry.digest if isinstance(o, PutFile) else None, isinstance(o, SwitchFolder))
        self.moves.append(move)
        if isinstance(o, SwitchFolder):
            self.folders[o.path] = FolderSwitch(self.live, o.path, name + "n", name + "o", {
                p.path[len(o.path) + 1:]: p.entry.digest for p in o.puts},
                frozenset(r.path[len(o.path) + 1:] for r in o.removals))

    def _will_make(self, folder: str) -> None:
        missing = []
        while folder and self.live.status(folder) is None and folder not in self.makes:
            missing.append(folder)
            folder = folder.rpartition("/")[0]
        self.makes += reversed(missing)

    def _may_go(self, folder: str) -> None:
        while folder and self.live.is_folder(folder) and folder not in self.empties:
            if self.staging.status(folder) is None:
                self.empties.append(folder)
            folder = folder.rpartition("/")[0]

    def _check_space(self, work: Sequence[PutFile | RemoveFile | SwitchFolder]) -> None:
        if not work:
            return
        size = sum(c.entry.size for o in work for c in changes_of(o) if isinstance(c, PutFile))
        for o in work:
            if isinstance(o, SwitchFolder):  # where the filesystem has no second names, it is copied
                size += self.live.size_of(o.path)
        free = self.live.free()
        if free < size + _SPARE:
            raise MergeRefused(f"Live's disk has {free >> 20} MB free, and the files to stage need {size >> 20} MB.",
                               next_step="Free some space on live, then merge again.")

    def _check(self, path: str, expected: Entry | None) -> None:
        """Live's file must be as compared: of this kind, with these rights and this content."""
        if expected is not None and expected.kind == "folder":
            if self.live.entry(path) is None:
                raise LiveMoved(f"Live's folder {path} is not empty any more, or gone.", next_step="Compare again.")
            return
        there = self.live.status(path)
        if expected is None:
            if there is not None and not there.is_folder:
                raise LiveMoved(f"Live has gained a file {path} meanwhile.", next_step="Compare again.")
            return
        found = self.live.entry(path)
        if found is not None and found.kind == "file" and (found.size, found.mode, found.stamp) != (
                expected.size, expected.mode, expected.stamp):
            found = self.live.entry(path, digest=True)
        elif found is not None and found.kind == "file":
            return  # its content is looked at when a copy of it is kept
        if found is None or not found.same_as(expected):
            raise LiveMoved(f"Live's file {path} has changed meanwhile.", next_step="Compare again.")

    # --- as data

    def record(self) -> dict[str, Any]:
        """What will happen, as data for the journal."""
        def said(digest: bytes | None) -> str | None:
            return digest.hex() if digest else None

        return {"moves": [[m.target, m.staged, m.aside, m.had, said(m.old), said(m.new), m.folder] for m in self.moves],
                "makes": self.makes, "empties": self.empties, "modes": [list(m) for m in self.modes],
                "folders": {t: f.record() for t, f in self.folders.items()}}

    @classmethod
    def recorded(cls, live: FileTree, staging: FileTree, mark: str, record: Mapping[str, Any], kept: Path,
                 fresh: Mapping[str, int]) -> Switch:
        """The switch that a journal speaks of. kept: where `keep` has left what it knows. fresh: what the journal says
        of that. Paths that leave the tree are refused when they are used."""
        moves = [Move(t, s, a, had, bytes.fromhex(old) if old else None, bytes.fromhex(new) if new else None, folder)
                 for t, s, a, had, old, new, folder in record["moves"]]
        places = {m.target: (m.staged or "", m.aside) for m in moves}
        held = Kept.read(kept)
        folders = {t: FolderSwitch.recorded(live, t, *places[t], data, held) for t, data in record["folders"].items()}
        return cls(live, staging, mark, moves, list(record["makes"]), list(record["empties"]),
                   [(p, new, old) for p, new, old in record["modes"]], dict(fresh), folders)

    # --- staging

    def stage(self, operations: Sequence[Operation], before: Path) -> None:
        """Copy what comes beside its target, digests checked, and what is replaced into `before`; all flushed."""
        self._seen = {m.target: self.live.signature(m.target) for m in self.moves}
        keep = tree_at(before)
        for folder in self.makes:
            self._make(folder, {o.path: o.entry.mode for o in operations if isinstance(o, PutFile)})
        by_target = {m.target: m for m in self.moves}
        for o in operations:
            if isinstance(o, SwitchFolder):
                for change in changes_of(o):
                    self._keep(change.path, change.before, keep)
                self._stage_folder(o, self.folders[o.path])
            elif isinstance(o, PutFile | RemoveFile):
                self._keep(o.path, o.before, keep)
                move = by_target.get(o.path)
                if isinstance(o, PutFile) and move is not None:
                    assert move.staged is not None
                    self._copy(o, move.staged)
        self.fresh = {m.target: info.inode for m in self.moves if m.staged is not None
                      if (info := self.live.status(m.staged)) is not None}
        self._sync()

    def _make(self, folder: str, modes: Mapping[str, int]) -> None:
        model = self.staging.status(folder)
        mode = modes.get(folder, 0o755 if model is None else model.rights)
        with suppress(FileExistsError):
            self.live.make_folder(folder, mode)
            self.live.sync(folder.rpartition("/")[0])

    def _copy(self, put: PutFile, staged: str) -> None:
        """What comes belongs to whom the file that it replaces belongs to."""
        owner = self.live.owner(put.path)
        if put.entry.kind == "folder":
            with suppress(FileExistsError):
                self.live.make_folder(staged, put.entry.mode, owner)
            return
        if put.content is not None:
            self.live.write(staged, put.content, put.entry.mode, owner)
            return
        try:
            if put.entry.kind == "link":
                self.live.make_link(staged, self.staging.link(put.path), owner)
                return
            digest = self.live.copy_in(self.staging, put.path, staged, put.entry.mode, owner)
        except FileNotFoundError as error:
            raise LiveMoved(f"Staging's file {put.path} is gone.", next_step="Compare again.") from error
        if digest != put.entry.digest:
            raise LiveMoved(f"Staging's file {put.path} changed while it was copied.", next_step="Compare again.")

    def _keep(self, path: str, expected: Entry | None, before: FileTree) -> None:
        """Check that live's file is as compared and keep a copy of it."""
        self._check(path, expected)
        if expected is None or expected.kind == "folder":
            return
        parent = path.rpartition("/")[0]
        before.make_root()
        before.make_above(path, lambda _: (0o700, None))
        if expected.kind == "link":
            before.make_link(path, self.live.link(path))
        elif before.copy_in(self.live, path, path, 0o600) != expected.digest:
            raise LiveMoved(f"Live's file {path} has changed meanwhile.", next_step="Compare again.")
        before.sync(parent)

    def _stage_folder(self, operation: SwitchFolder, work: FolderSwitch) -> None:
        work.copy_rest(self.staging)
        for put in operation.puts:
            rest = put.path[len(operation.path) + 1:]
            work.make_parents(rest, self.staging)
            self._copy(put, f"{work.staged}/{rest}")
        work.close_up([(r.path[len(operation.path) + 1:], r.before.kind == "folder") for r in operation.removals])

    def _sync(self) -> None:
        """Flush the names in every folder that something is moved in."""
        for folder in {p.rpartition("/")[0] for p in (*(m.target for m in self.moves), *self.makes, *self.empties)}:
            self.live.sync(folder)

    def keep(self, place: Path) -> None:
        """Write down what it takes to tell, later, what live itself wrote into the folders that are switched."""
        Kept({t: f.rest for t, f in self.folders.items()}).write(place)

    def catch_up(self) -> None:
        """Take along what live wrote, since they were staged, into the folders that are to be switched."""
        for work in self.folders.values():
            work.catch_up()

    # --- switching

    def go(self) -> None:
        """Rename everything into place, and flush that. Raises LiveMoved when something there is not as it was when it
        was staged; then `back` takes back what was done."""
        for move in self.moves:
            if not move.folder and self.live.signature(move.target) != self._seen[move.target]:
                raise self._moved(move.target)
        for path, mode, _ in self.modes:
            self.live.give(path, self.live.owner(path), mode)
        for move in self.moves:
            if move.folder:
                self._go_folder(self.folders[move.target])
            elif move.staged is None:
                self.live.move(move.target, move.aside)
                self._as_seen(move)
            elif not move.had:
                self._go_new(move)
            elif self.live.exchange(move.staged, move.target):
                self.live.move(move.staged, move.aside)
                self._as_seen(move)
            else:
                self.live.again(move.target, move.aside)
                if self.live.signature(move.target) != self._seen[move.target]:
                    raise self._moved(move.target)
                self.live.move(move.staged, move.target)
        self._sync()

    def _go_new(self, move: Move) -> None:
        assert move.staged is not None
        try:
            self.live.move_new(move.staged, move.target)
        except FileExistsError:
            raise self._moved(move.target) from None

    def _go_folder(self, work: FolderSwitch) -> None:
        path = work.go()
        if path is not None:
            raise self._moved(f"{work.target}/{path}")

    def _as_seen(self, move: Move) -> None:
        if self.live.signature(move.aside) != self._seen[move.target]:
            raise self._moved(move.target)

    @staticmethod
    def _moved(path: str) -> LiveMoved:
        return LiveMoved(f"Live's {path} has changed meanwhile.", next_step="Compare again.")

    def forward(self) -> None:
        """After a commit: bring what is still staged into place, unless live has changed what is there since."""
        for move in self.moves:
            if move.folder:
                self.folders[move.target].forward(self.fresh.get(move.target))
            elif move.staged is not None and self._is_fresh(move, move.staged):
                there = self.live.entry(move.target, digest=True)
                if (there is None and not move.had) or (there is not None and there.digest == move.old):
                    if there is not None and self.live.status(move.aside) is None:
                        self.live.again(move.target, move.aside)
                    self.live.move(move.staged, move.target)
        self._sync()

    # --- taking back, tidying up

    def back(self, began: bool = True) -> None:
        """Put everything back as it was, and leave nothing behind, from wherever it stands. began: whether `go` may
        have. What live itself has changed since stays as live has it."""
        for path, new, old in reversed(self.modes) if began else ():
            info = self.live.status(path)
            if info is not None and info.rights == new:
                self.live.give(path, self.live.owner(path), old)
        for move in reversed(self.moves):
            if move.folder:
                self.carried += self.folders[move.target].back(self.fresh.get(move.target), began, move.had)
            else:
                self._back(move, began)
        for folder in reversed(self.makes):
            self.live.remove_empty(folder)
        self._sync()

    def _back(self, move: Move, began: bool) -> None:
        if began:
            old = self._old_place(move)
            there = self.live.status(move.target) is not None
            if move.staged is None:
                if old and not there:
                    self.live.move(old, move.target)
            elif there and self._is_fresh(move, move.target) and not self._is_fresh(move, move.staged):
                if old:
                    self.live.move(old, move.target)
                elif not move.had:
                    self.live.remove(move.target)
        self.live.remove(move.aside)
        if move.staged is not None:
            self.live.remove(move.staged)

    def _old_place(self, move: Move) -> str:
        """Where what was replaced is now, apart from the target; empty: nowhere."""
        if self.live.status(move.aside) is not None:
            return move.aside
        if move.staged is not None and move.had and self.live.status(move.staged) is not None and not self._is_fresh(
                move, move.staged):
            return move.staged
        return ""

    def _is_fresh(self, move: Move, path: str) -> bool:
        """Whether what is at a path is what came. An inode alone may have been given out again."""
        info = self.live.status(path)
        if info is None or info.is_folder:
            return info is not None and info.inode == self.fresh.get(move.target)
        found = self.live.entry(path, digest=True)
        if found is None or found.digest != move.new:
            return False
        # Where what came equals what was there, only the inode tells them apart.
        return move.old != move.new or info.inode == self.fresh.get(move.target, info.inode)

    def tidy(self) -> None:
        """Remove what was put aside, and the folders that lost their last file, once the merge is sure. What live
        itself wrote meanwhile into a folder that was switched is taken along before."""
        for move in self.moves:
            if move.folder:
                self.carried += self.folders[move.target].tidy()
                continue
            self.live.remove(move.aside)
            if move.staged is not None:
                self.live.remove(move.staged)
        for folder in self.empties:
            self.live.remove_empty(folder)
        self._sync()

    def written(self) -> Iterator[tuple[str, str]]:
        """The paths in the tree of what comes, and where it is staged now; before `go`."""
        for move in self.moves:
            if move.folder:
                for rest in self.folders[move.target].puts:
                    yield f"{move.target}/{rest}", f"{move.staged}/{rest}"
            elif move.staged is not None:
                yield move.target, move.staged
