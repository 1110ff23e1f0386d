"""Staging the files of a merge: what is going to happen, as data, and everything laid beside its target."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import field
from pathlib import Path

from nostos.core.anchor.names import Side
from nostos.core.apply.files.folders import FolderRecord, FolderSwitch
from nostos.core.apply.verify import ask_for_files, looks
from nostos.core.errors import MergeRefused, TargetMoved
from nostos.core.files.entry import OWN_PREFIX
from nostos.core.files.tree import Call, Copy, FileTree, Signature
from nostos.core.files.words import ending
from nostos.core.plan.conditions import FileAs
from nostos.core.plan.operations import Operation, PutFile, RemoveFile, SwitchFolder, changes_of, laid_down
from nostos.core.records import dataclass

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
class Staging:
    """What is laid beside its target, where nobody sees it.

    target: the tree that is written. source: where what comes lies. mark: the operation's id. side: whose tree the
    target is. makes: folders to be made. empties: folders that go when they are empty at the end, as they do in the
    source. modes: folders whose rights change: path, new and old. carried: paths of what the target's site itself wrote
    meanwhile into a folder that was switched, and that was carried over.
    """

    target: FileTree
    source: FileTree
    mark: str
    side: Side
    moves: list[Move] = field(default_factory=list)
    makes: list[str] = field(default_factory=list)
    empties: list[str] = field(default_factory=list)
    modes: list[tuple[str, int, int]] = field(default_factory=list)
    fresh: dict[str, int] = field(default_factory=dict)  # target -> the inode of what is staged for it
    folders: dict[str, FolderSwitch] = field(default_factory=dict)  # by target
    carried: list[str] = field(default_factory=list)
    conditions: Sequence[FileAs] = ()
    _seen: dict[str, Signature | None] = field(default_factory=dict)

    # --- planning

    def plan(self, operations: Sequence[Operation], conditions: Sequence[FileAs]) -> None:
        """Work out what will happen; nothing is touched. Raises TargetMoved when a condition does not hold,
        MergeRefused when space is short."""
        work = [o for o in operations if isinstance(o, PutFile | RemoveFile | SwitchFolder)]
        self.conditions = conditions
        self._check_space(work)
        folders = {o.path.rpartition("/")[0] for o in work} - {""}
        others = (("status", p) for p in (*(o.path for o in work), *folders))
        with self.target.looking_ahead([*looks(conditions), *others]):
            ask_for_files(conditions, self.target, self.side)
            self._plan(work)

    def _plan(self, work: Sequence[PutFile | RemoveFile | SwitchFolder]) -> None:
        for o in work:
            if isinstance(o, PutFile) and o.entry.kind == "folder":
                status = self.target.status(o.path)
                if status is not None and not status.is_folder:
                    self._will_move(o)
                    continue
                self._will_make(o.path)
                if status is not None and status.rights != o.entry.mode:
                    self.modes.append((o.path, o.entry.mode, status.rights))
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
        folder = f"{parent}/" if parent else ""
        name = f"{folder}{OWN_PREFIX}{self.mark}-{len(self.moves)}"  # short, whatever the file's own name is
        last = "" if isinstance(o, SwitchFolder) else ending(o.path)  # by which it is known what it may speak of
        had = self.target.status(o.path) is not None
        move = Move(o.path, None if goes else f"{name}n{last}", f"{name}o{last}", had,
                    None if isinstance(o, SwitchFolder) or o.before is None else o.before.digest,
                    o.entry.digest if isinstance(o, PutFile) else None, isinstance(o, SwitchFolder))
        self.moves.append(move)
        if isinstance(o, SwitchFolder):
            self.folders[o.path] = FolderSwitch(self.target, o.path, name + "n", name + "o", {
                p.path[len(o.path) + 1:]: p.entry.digest for p in o.puts},
                frozenset(r.path[len(o.path) + 1:] for r in o.removals))

    def _will_make(self, folder: str) -> None:
        missing = []
        while folder and self.target.status(folder) is None and folder not in self.makes:
            missing.append(folder)
            folder = folder.rpartition("/")[0]
        self.makes += reversed(missing)

    def _may_go(self, folder: str) -> None:
        while folder and self.target.is_folder(folder) and folder not in self.empties:
            if self.source.status(folder) is None:
                self.empties.append(folder)
            folder = folder.rpartition("/")[0]

    def _check_space(self, work: Sequence[PutFile | RemoveFile | SwitchFolder]) -> None:
        if not work:
            return
        sizes: dict[str, int] = {}
        for o in work:
            disk = self.target.disk_of(o.path)
            size = laid_down(o)
            if self.target.host:  # what is replaced is kept there, too
                size += sum(c.before.size for c in changes_of(o) if c.before is not None)
            if isinstance(o, SwitchFolder):  # where the filesystem has no second names, it is copied
                size += self.target.size_of(o.path)
            sizes[disk] = sizes.get(disk, 0) + size
        for disk, size in sizes.items():
            free = self.target.free(disk)
            if free >= size + _SPARE:
                continue
            raise MergeRefused(f"{self.side.capitalize()}'s disk has {free >> 20} MB free, and the files to stage need "
                               f"{size >> 20} MB.",
                               next_step=f"Free some space {self.side.where}, then merge again.")

    # --- staging

    def stage(self, operations: Sequence[Operation], keep: Callable[[], FileTree]) -> None:
        """Copy what comes beside its target, digests checked, and what is replaced into the tree that `keep` makes, if
        anything is; all flushed."""
        with self.target.looking_ahead(("status", m.target) for m in self.moves):
            self._seen = {m.target: self.target.signature(m.target) for m in self.moves}
        self._keep([c for o in operations if isinstance(o, PutFile | RemoveFile | SwitchFolder) for c in changes_of(o)],
                   keep)
        for folder in self.makes:
            self._make(folder, {o.path: o.entry.mode for o in operations if isinstance(o, PutFile)})
        by_target = {m.target: m for m in self.moves}
        staged = [(o, m.staged) for o in operations if isinstance(o, PutFile)
                  if (m := by_target.get(o.path)) is not None and m.staged is not None]
        self._copy(staged)
        for o in operations:
            if isinstance(o, SwitchFolder):
                self._stage_folder(o, self.folders[o.path])
        with self.target.looking_ahead(("status", m.staged) for m in self.moves if m.staged is not None):
            self.fresh = {m.target: info.inode for m in self.moves if m.staged is not None
                          if (info := self.target.status(m.staged)) is not None}
        self._sync()

    def _make(self, folder: str, modes: Mapping[str, int]) -> None:
        model = self.source.status(folder)
        mode = modes.get(folder, 0o755 if model is None else model.rights)
        with suppress(FileExistsError):
            self.target.make_folder(folder, mode)
            self.target.sync(folder.rpartition("/")[0])

    def _copy(self, puts: Sequence[tuple[PutFile, str]]) -> None:
        """Stage what comes, each in its place. It belongs to whom the file that it replaces belongs to."""
        with self.target.looking_ahead(("owner", put.path) for put, _ in puts):
            owners = {put.path: self.target.owner(put.path) for put, _ in puts}
        self.target.meant.update((staged, put.path) for put, staged in puts)
        plain: list[tuple[PutFile, str]] = []
        for put, staged in puts:
            owner = owners[put.path]
            if put.entry.kind == "folder":
                with suppress(FileExistsError):
                    self.target.make_folder(staged, put.entry.mode, owner)
            elif put.content is not None:
                self.target.write(staged, put.content, put.entry.mode, owner)
            elif put.entry.kind == "link":
                with _still_there(put.path, self.side.other):
                    self.target.make_link(staged, self.source.link(put.path), owner)
            else:
                plain.append((put, staged))
        copies = [Copy(put.path, staged, put.entry.mode, owners[put.path], put.entry.size) for put, staged in plain]
        digests = self.target.copies_in(self.source, copies)
        for put, _ in plain:
            with _still_there(put.path, self.side.other):
                digest = next(digests)
            if digest != put.entry.digest:
                raise TargetMoved(f"{self.side.other.capitalize()}'s file {put.path} changed while it was copied.",
                                  next_step="Compare again.")

    def _keep(self, changes: Sequence[PutFile | RemoveFile], keep: Callable[[], FileTree]) -> None:
        """Check that live's files are as compared and keep copies of them."""
        with self.target.looking_ahead(looks(self.conditions)):
            ask_for_files(self.conditions, self.target, self.side)
        kept = [(c.path, c.before) for c in changes if c.before is not None and c.before.kind != "folder"]
        if not kept:
            return
        before = keep()
        for path, _ in kept:
            before.make_above(path, lambda _: (0o700, None))
        files = [(path, old) for path, old in kept if old.kind == "file"]
        digests = before.copies_in(self.target, [Copy(path, path, 0o600, size=old.size) for path, old in files])
        for path, old in files:
            if next(digests) != old.digest:
                raise TargetMoved(f"{self.side.capitalize()}'s file {path} has changed meanwhile.",
                                  next_step="Compare again.")
        for path, old in kept:
            if old.kind == "link":
                before.make_link(path, self.target.link(path))
        before.in_order([Call("sync", (f,)) for f in sorted({p.rpartition("/")[0] for p, _ in kept})])

    def _stage_folder(self, operation: SwitchFolder, work: FolderSwitch) -> None:
        work.copy_rest(self.source)
        puts = [(put, put.path[len(operation.path) + 1:]) for put in operation.puts]
        for _, rest in puts:
            work.make_parents(rest, self.source)
        self._copy([(put, f"{work.staged}/{rest}") for put, rest in puts])
        work.close_up([(r.path[len(operation.path) + 1:], r.before.kind == "folder") for r in operation.removals])

    def _sync(self) -> None:
        """Flush the names in every folder that something is moved in."""
        folders = {p.rpartition("/")[0] for p in (*(m.target for m in self.moves), *self.makes, *self.empties)}
        self.target.in_order([Call("sync", (f,)) for f in sorted(folders)])

    def keep_record(self, place: Path) -> None:
        """Write down what it takes to tell, later, what live itself wrote into the folders that are switched."""
        FolderRecord({t: f.rest for t, f in self.folders.items()}).write(place)

    def catch_up(self) -> None:
        """Take along what live wrote, since they were staged, into the folders that are to be switched."""
        for work in self.folders.values():
            work.catch_up()


@contextmanager
def _still_there(path: str, side: Side) -> Iterator[None]:
    try:
        yield
    except FileNotFoundError as error:
        raise TargetMoved(f"{side.capitalize()}'s file {path} is gone.", next_step="Compare again.") from error
