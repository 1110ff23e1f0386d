"""Bringing files home: staged beside their targets first, then renamed into place, and back if anything fails.

What is going to happen is known, as data, before anything is touched, so that it can be journaled; and taking it back
looks at what is there, so that it works from any point at which it was cut short, by this process or by another.
"""

from __future__ import annotations

import os
import shutil
import stat
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from nostos.core.errors import LiveMoved, MergeRefused
from nostos.core.operations import Operation, PutFile, RemoveFile, SwitchFolder
from nostos.core.private import make_private
from nostos.core.tree.copy import copy_file, write_file
from nostos.core.tree.entries import OWN_PREFIX, Entry, digest_file, inside, look_at

Signature = tuple[tuple[str, int, int, int], ...]  # of each file: path, inode, size, time
_SPARE = 16 * 1024 * 1024  # bytes that are left free on live's disk


@dataclass(frozen=True)
class Move:
    """One target: what is staged for it (None: it goes away), and where what was there is put aside.

    had: whether something was there. digest: of what comes; None for folders.
    """

    target: Path
    staged: Path | None
    aside: Path
    had: bool
    digest: bytes | None = None


@dataclass
class Switch:
    """The file side of a merge. Nothing is visible on live until `go`; `back` takes it all back.

    makes: folders to be made. empties: folders that go when they are empty at the end, as they do in staging.
    """

    live: Path
    staging: Path
    mark: str
    moves: list[Move] = field(default_factory=list)
    makes: list[Path] = field(default_factory=list)
    empties: list[Path] = field(default_factory=list)
    _seen: dict[Path, Signature] = field(default_factory=dict)

    def plan(self, operations: Sequence[Operation]) -> None:
        """Work out what will happen; nothing is touched. Raises LiveMoved when live's file is not as compared,
        MergeRefused when space is short."""
        work = [o for o in operations if isinstance(o, PutFile | RemoveFile | SwitchFolder)]
        puts = [p for o in work for p in (o.puts if isinstance(o, SwitchFolder) else (o,)) if isinstance(p, PutFile)]
        self._check_space(sum(p.entry.size for p in puts), work)
        for o in work:
            target = inside(self.live, o.path)
            changes: tuple[PutFile | RemoveFile, ...] = (
                (*o.puts, *o.removals) if isinstance(o, SwitchFolder) else (o,))
            for change in changes:
                self._check(change.path, change.before)
            if isinstance(o, PutFile) and o.entry.kind == "folder":
                self._will_make(target)
            elif isinstance(o, RemoveFile) and o.before.kind == "folder":
                self._may_go(target)
            else:
                goes = isinstance(o, RemoveFile)
                if goes:
                    self._may_go(target.parent)
                else:
                    self._will_make(target.parent)
                self.moves.append(Move(
                    target, None if goes else target.with_name(self._own(target.name, "new")),
                    target.with_name(self._own(target.name, "old")), target.is_symlink() or target.exists(),
                    o.entry.digest if isinstance(o, PutFile) else None))

    def _will_make(self, folder: Path) -> None:
        missing = []
        while not folder.exists() and folder not in self.makes:
            missing.append(folder)
            folder = folder.parent
        self.makes += reversed(missing)

    def _may_go(self, folder: Path) -> None:
        while folder != self.live and folder.is_dir() and folder not in self.empties:
            self.empties.append(folder)
            folder = folder.parent

    def record(self) -> dict[str, Any]:
        """What will happen, as data for the journal."""
        return {
            "moves": [[str(m.target), str(m.staged) if m.staged else None, str(m.aside), m.had,
                       m.digest.hex() if m.digest else None] for m in self.moves],
            "makes": [str(p) for p in self.makes], "empties": [str(p) for p in self.empties]}

    @classmethod
    def recorded(cls, live: Path, staging: Path, mark: str, record: Mapping[str, Any]) -> Switch:
        """The switch that a journal speaks of. Raises SiteError for a path that leaves the tree."""
        def there(path: str) -> Path:
            return inside(live, Path(path).relative_to(live).as_posix())

        moves = [Move(there(t), there(s) if s else None, there(a), had, bytes.fromhex(d) if d else None)
                 for t, s, a, had, d in record["moves"]]
        return cls(live, staging, mark, moves, [there(p) for p in record["makes"]],
                   [there(p) for p in record["empties"]])

    def stage(self, operations: Sequence[Operation], before: Path) -> None:
        """Copy what comes beside its target, digests checked, and what is replaced into `before`."""
        self._seen = {m.target: _signature(m.target) for m in self.moves}
        for folder in self.makes:
            folder.mkdir(exist_ok=True)
        by_target = {m.target: m for m in self.moves}
        for o in operations:
            if isinstance(o, SwitchFolder):
                self._stage_folder(o, by_target[inside(self.live, o.path)], before)
            elif isinstance(o, PutFile):
                self._keep(o.path, o.before, before)
                move = by_target.get(inside(self.live, o.path))
                if move is None:  # an empty folder
                    inside(self.live, o.path).chmod(o.entry.mode)
                else:
                    assert move.staged is not None
                    self._copy(o, move.staged)
            elif isinstance(o, RemoveFile):
                self._keep(o.path, o.before, before)

    def _own(self, name: str, what: str) -> str:
        return f"{OWN_PREFIX}{self.mark}-{what}-{name}"[:250]

    def _check_space(self, size: int, work: Sequence[Operation]) -> None:
        if not work:
            return
        for o in work:
            if isinstance(o, SwitchFolder) and (self.live / o.path).is_dir():
                size += sum(f.stat().st_size for f in (self.live / o.path).rglob("*") if f.is_file())
        free = shutil.disk_usage(self.live).free
        if free < size + _SPARE:
            raise MergeRefused(f"Live's disk has {free >> 20} MB free, and the files to stage need {size >> 20} MB.",
                               next_step="Free some space on live, then merge again.")

    def _copy(self, put: PutFile, staged: Path) -> None:
        source = inside(self.staging, put.path)
        if put.entry.kind == "folder":
            staged.mkdir(exist_ok=True)
            staged.chmod(put.entry.mode)
            return
        if put.content is not None:
            write_file(put.content, staged, put.entry.mode)
            return
        if put.entry.kind == "link":
            staged.symlink_to(source.readlink())
            return
        try:
            digest = copy_file(source, staged, put.entry.mode)
        except FileNotFoundError as error:
            raise LiveMoved(f"Staging's file {put.path} is gone.", next_step="Compare again.") from error
        if digest != put.entry.digest:
            raise LiveMoved(f"Staging's file {put.path} changed while it was copied.", next_step="Compare again.")

    def _check(self, path: str, expected: Entry | None) -> None:
        """Live's file must be as compared."""
        target = inside(self.live, path)
        there = target.is_symlink() or target.exists()
        if expected is None:
            if there and not target.is_dir():
                raise LiveMoved(f"Live has gained a file {path} meanwhile.", next_step="Compare again.")
        elif expected.kind == "folder":
            if look_at(self.live, path) is None:
                raise LiveMoved(f"Live's folder {path} is not empty any more, or gone.", next_step="Compare again.")
        elif not there or (not target.is_symlink() and (
                not target.is_file() or digest_file(target) != expected.digest)):
            raise LiveMoved(f"Live's file {path} has changed meanwhile.", next_step="Compare again.")

    def _keep(self, path: str, expected: Entry | None, before: Path) -> None:
        """Check that live's file is as compared and keep a copy of it."""
        self._check(path, expected)
        if expected is None or expected.kind == "folder":
            return
        target, keep = inside(self.live, path), before / path
        make_private(keep.parent)
        if target.is_symlink():
            keep.symlink_to(target.readlink())
        else:
            copy_file(target, keep, 0o600)

    def _stage_folder(self, operation: SwitchFolder, move: Move, before: Path) -> None:
        target, staged = move.target, move.staged
        assert staged is not None
        changes: list[PutFile | RemoveFile] = [*operation.puts, *operation.removals]
        touched = {o.path for o in changes}
        for o in changes:
            self._keep(o.path, o.before, before)
        staged.mkdir()
        if target.is_dir():
            for folder, names, files in os.walk(target):
                here = staged / Path(folder).relative_to(target)
                for name in list(names):
                    if (Path(folder) / name).is_symlink():
                        names.remove(name)
                        files.append(name)
                    else:
                        (here / name).mkdir()
                for name in files:
                    source = Path(folder) / name
                    if f"{operation.path}/{source.relative_to(target).as_posix()}" in touched:
                        continue
                    if source.is_symlink():
                        (here / name).symlink_to(source.readlink())
                    else:
                        copy_file(source, here / name, source.stat().st_mode & 0o7777)
        for put in operation.puts:
            place = staged / put.path[len(operation.path) + 1:]
            place.parent.mkdir(parents=True, exist_ok=True)
            self._copy(put, place)
        for removal in operation.removals:  # a folder that lost its last file goes with it
            parent = staged / removal.path[len(operation.path) + 1:]
            parent = parent if removal.before.kind == "folder" else parent.parent
            while parent != staged and parent.is_dir() and not any(parent.iterdir()):
                parent.rmdir()
                parent = parent.parent
        _match_rights(target if target.is_dir() else self.staging / operation.path, staged)
        if not any(staged.iterdir()):
            staged.rmdir()

    def go(self) -> None:
        """Rename everything into place. Raises LiveMoved when something there is not as it was when it was staged."""
        for move in self.moves:
            if _signature(move.target) != self._seen[move.target]:
                name = move.target.relative_to(self.live).as_posix()
                raise LiveMoved(f"Live's {name} has changed meanwhile.", next_step="Compare again.")
        for move in self.moves:
            comes = move.staged is not None and (move.staged.is_symlink() or move.staged.exists())
            if move.target.is_dir() and not move.target.is_symlink():
                move.target.rename(move.aside)
            elif move.target.exists() or move.target.is_symlink():
                os.link(move.target, move.aside, follow_symlinks=False)
                if not comes:
                    move.target.unlink()
            if comes:
                assert move.staged is not None
                move.staged.replace(move.target)

    def back(self, began: bool = True) -> None:
        """Put everything back as it was, and leave nothing behind, from wherever it stands. began: whether `go` may
        have. What live itself has changed since stays as live has it."""
        for move in reversed(self.moves):
            self._back(move, began)
        for folder in reversed(self.makes):
            if folder.is_dir() and not any(folder.iterdir()):
                folder.rmdir()

    def _back(self, move: Move, began: bool) -> None:
        staged = move.staged is not None and (move.staged.is_symlink() or move.staged.exists())
        if move.aside.is_symlink() or move.aside.exists():
            if move.aside.is_dir() and not move.aside.is_symlink():
                if move.target.is_dir():
                    shutil.rmtree(move.target)
                move.aside.rename(move.target)
            elif self._ours(move):
                move.aside.replace(move.target)
            move.aside.unlink(missing_ok=True)  # two names of one file are not renamed into each other
        elif began and not move.had and move.staged is not None and not staged and self._ours(move):
            _remove(move.target)
        if move.staged is not None:
            _remove(move.staged)

    def _ours(self, move: Move) -> bool:
        """Whether what is at the target is what was brought there, or what was there before, or nothing."""
        if move.target.is_symlink() or not move.target.exists() or move.target.is_dir():
            return True
        now = digest_file(move.target)
        if now == move.digest:
            return True
        return move.aside.is_file() and now == digest_file(move.aside)

    def tidy(self) -> None:
        """Remove what was put aside, and the folders that lost their last file, once the merge is sure."""
        for move in self.moves:
            _remove(move.aside)
            if move.staged is not None:
                _remove(move.staged)
        for folder in self.empties:
            if folder.is_dir() and not any(folder.iterdir()) and not (
                    self.staging / folder.relative_to(self.live)).exists():
                folder.rmdir()


def _signature(path: Path) -> Signature:
    """What changes with anything that is done to a file, or to a file in a folder; nothing where there is none."""
    found = []
    for place in [path, *(sorted(path.rglob("*")) if path.is_dir() and not path.is_symlink() else ())]:
        with suppress(FileNotFoundError):
            info = place.lstat()
            found.append((str(place), info.st_ino, 0 if stat.S_ISDIR(info.st_mode) else info.st_size,
                          0 if stat.S_ISDIR(info.st_mode) else info.st_mtime_ns))
    return tuple(found)


def _remove(path: Path) -> None:
    if path.is_dir() and not path.is_symlink():
        shutil.rmtree(path)
    else:
        path.unlink(missing_ok=True)


def _match_rights(source: Path, target: Path) -> None:
    for folder, names, _ in os.walk(target):
        here = Path(folder)
        model = source / here.relative_to(target)
        if model.is_dir():
            here.chmod(model.stat().st_mode & 0o7777)
        names[:] = [n for n in names if not (here / n).is_symlink()]
