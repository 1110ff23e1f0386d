"""Bringing files home: staged beside their targets first, then renamed into place, and back if anything fails."""

from __future__ import annotations

import os
import shutil
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

from nostos.core.errors import LiveMoved, MergeRefused
from nostos.core.operations import Operation, PutFile, RemoveFile, SwitchFolder
from nostos.core.private import make_private
from nostos.core.tree.copy import copy_file, write_file
from nostos.core.tree.entries import OWN_PREFIX, Entry, digest_file, inside, look_at

_SPARE = 16 * 1024 * 1024  # bytes that are left free on live's disk


@dataclass(frozen=True)
class Move:
    """One target: what is staged for it (None: it goes away), and where what was there is put aside."""

    target: Path
    staged: Path | None
    aside: Path


@dataclass
class Switch:
    """The file side of a merge. Nothing is visible on live until `go`; `back` takes it all back."""

    live: Path
    staging: Path
    mark: str
    moves: list[Move] = field(default_factory=list)
    _gone: list[Move] = field(default_factory=list)
    _made: list[Path] = field(default_factory=list)
    _empty: list[Path] = field(default_factory=list)  # folders that go when they are empty, as they do in staging
    _went: list[tuple[Path, int]] = field(default_factory=list)

    def stage(self, operations: Sequence[Operation], before: Path) -> None:
        """Copy what comes beside its target, digests checked, and what is replaced into `before`.

        Raises LiveMoved when live's file is not as compared, MergeRefused when space is short.
        """
        work = [o for o in operations if isinstance(o, PutFile | RemoveFile | SwitchFolder)]
        puts = [p for o in work for p in (o.puts if isinstance(o, SwitchFolder) else (o,)) if isinstance(p, PutFile)]
        self._check_space(sum(p.entry.size for p in puts), work)
        for operation in work:
            if isinstance(operation, SwitchFolder):
                self._stage_folder(operation, before)
            elif isinstance(operation, PutFile) and operation.entry.kind == "folder":
                self._make_folders(inside(self.live, operation.path))
            elif isinstance(operation, RemoveFile) and operation.before.kind == "folder":
                self._keep(operation.path, operation.before, before)
                self._empty.append(inside(self.live, operation.path))
            elif isinstance(operation, PutFile):
                target = inside(self.live, operation.path)
                self._keep(operation.path, operation.before, before)
                self._make_folders(target.parent)
                staged = target.with_name(self._own(target.name, "new"))
                self.moves.append(Move(target, staged, target.with_name(self._own(target.name, "old"))))
                self._copy(operation, staged)
            else:
                target = inside(self.live, operation.path)
                self._keep(operation.path, operation.before, before)
                self._empty.append(target.parent)
                self.moves.append(Move(target, None, target.with_name(self._own(target.name, "old"))))

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

    def _make_folders(self, folder: Path) -> None:
        missing = []
        while not folder.exists():
            missing.append(folder)
            folder = folder.parent
        for path in reversed(missing):
            path.mkdir()
            self._made.append(path)

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

    def _keep(self, path: str, expected: Entry | None, before: Path) -> None:
        """Check that live's file is as compared and keep a copy of it."""
        target = inside(self.live, path)
        there = target.is_symlink() or target.exists()
        if expected is not None and expected.kind == "folder":
            if look_at(self.live, path) is None:
                raise LiveMoved(f"Live's folder {path} is not empty any more, or gone.", next_step="Compare again.")
            return
        if expected is None:
            if there:
                raise LiveMoved(f"Live has gained a file {path} meanwhile.", next_step="Compare again.")
            return
        if target.is_symlink() and expected.kind == "link":
            keep = before / path
            make_private(keep.parent)
            keep.symlink_to(target.readlink())
        elif not there or not target.is_file() or digest_file(target) != expected.digest:
            raise LiveMoved(f"Live's file {path} has changed meanwhile.", next_step="Compare again.")
        else:
            keep = before / path
            make_private(keep.parent)
            copy_file(target, keep, 0o600)

    def _stage_folder(self, operation: SwitchFolder, before: Path) -> None:
        target = inside(self.live, operation.path)
        self._make_folders(target.parent)
        staged = target.with_name(self._own(target.name, "new"))
        self.moves.append(Move(target, staged, target.with_name(self._own(target.name, "old"))))
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
            self.moves[-1] = Move(target, None, self.moves[-1].aside)

    def go(self) -> None:
        """Rename everything into place."""
        for move in self.moves:
            self._gone.append(move)
            if move.target.is_dir() and not move.target.is_symlink():
                move.target.rename(move.aside)
            elif move.target.exists() or move.target.is_symlink():
                os.link(move.target, move.aside, follow_symlinks=False)
                if move.staged is None:
                    move.target.unlink()
            if move.staged is not None:
                move.staged.replace(move.target)
        for folder in self._empty:
            while folder != self.live and folder.is_dir() and not any(folder.iterdir()) and not (
                    self.staging / folder.relative_to(self.live)).exists():
                self._went.append((folder, folder.stat().st_mode & 0o7777))
                folder.rmdir()
                folder = folder.parent

    def back(self) -> None:
        """Put everything back as it was, and leave nothing behind."""
        for folder, mode in reversed(self._went):
            folder.mkdir(exist_ok=True)
            folder.chmod(mode)
        self._went.clear()
        for move in reversed(self._gone):
            if move.aside.is_symlink() or move.aside.exists():
                if move.aside.is_dir() and move.target.is_dir():
                    shutil.rmtree(move.target)
                move.aside.replace(move.target)
            elif move.staged is not None and not move.staged.exists():
                _remove(move.target)
        self._gone.clear()
        for move in self.moves:
            if move.staged is not None:
                _remove(move.staged)
        for folder in reversed(self._made):
            if folder.is_dir() and not any(folder.iterdir()):
                folder.rmdir()

    def tidy(self) -> None:
        """Remove what was put aside, once the merge is sure."""
        for move in self.moves:
            _remove(move.aside)


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
