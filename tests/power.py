"""A power cut, as a disk sees it: whatever was not flushed may be gone.

While a process works, every change of a name and every write is taken down until it is flushed: a name when the folder
that it stands in is, a file's content when the file is. At the cut all the rest is undone, the last first. Databases
flush what they commit by themselves, and are left alone.
"""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

_WRITES = os.O_WRONLY | os.O_RDWR


class Disk:
    """What a process has changed and not flushed. grave: a folder on the same disk, for what was removed."""

    def __init__(self, grave: Path) -> None:
        self.grave = grave
        self.undo: list[tuple[set[str], Callable[[], None]]] = []  # folders to be flushed, and how it is undone
        self.flushed: dict[int, tuple[int, int]] = {}  # by inode: a descriptor, and how much of it is on the disk
        self.off = False

    @staticmethod
    def _full(path: Any, folder: Any) -> str:
        name = os.fsdecode(path)
        if isinstance(folder, int) and folder >= 0:
            return os.readlink(f"/proc/self/fd/{folder}") + "/" + name
        return os.path.abspath(name)

    def _saved(self, path: str) -> str:
        """Where what is at a path is kept; empty: nothing is there."""
        if not os.path.lexists(path) or (os.path.isdir(path) and not os.path.islink(path)):
            return ""
        place = str(self.grave / str(len(os.listdir(self.grave))))
        os.link(path, place, follow_symlinks=False)
        return place

    def audit(self, event: str, args: tuple[Any, ...]) -> None:
        """Told of a change just before it is made."""
        if self.off:
            return
        self.off = True
        try:
            self._note(event, args)
        finally:
            self.off = False

    def _note(self, event: str, args: tuple[Any, ...]) -> None:
        if event in ("os.rename", "nostos.exchange"):
            one, other = self._full(args[0], args[2]), self._full(args[1], args[3])
            before = _inode(one)
            if event == "os.rename":
                saved = self._saved(other)
                self._add({one, other}, lambda: self._back(one, other, before, saved))
            else:
                self._add({one, other}, lambda: self._change_back(one, other, before))
        elif event == "os.remove":
            path = self._full(args[0], args[1])
            saved = self._saved(path)
            self._add({path}, lambda: None if os.path.lexists(path) or not saved else os.rename(saved, path))
        elif event in ("os.mkdir", "os.rmdir"):
            path = self._full(args[0], args[-1])
            there = os.path.isdir(path)
            if event == "os.mkdir" and not there:
                self._add({path}, lambda: shutil.rmtree(path, ignore_errors=True))
            elif event == "os.rmdir" and there:
                self._add({path}, lambda: os.makedirs(path, exist_ok=True))
        elif event in ("os.link", "os.symlink"):
            path = self._full(args[1], args[-1])
            if not os.path.lexists(path):
                self._add({path}, lambda: _gone(path))
        elif event == "open" and args[1] is not None and isinstance(args[0], str | bytes | os.PathLike):
            self.opened(self._full(args[0], None), args[2])

    def opened(self, path: str, flags: int) -> None:
        """A file is about to be opened."""
        if not flags & _WRITES or _is_database(path):
            return
        if not os.path.lexists(path):
            self._add({path}, lambda: None if _is_database(path) else _gone(path))

    def written(self, descriptor: int, size: int) -> None:
        """A file is open for writing; so many bytes of it are on the disk."""
        info = os.fstat(descriptor)
        if info.st_ino not in self.flushed:
            self.flushed[info.st_ino] = os.dup(descriptor), size

    def _add(self, paths: set[str], undo: Callable[[], None]) -> None:
        self.undo.append(({os.path.dirname(p) for p in paths}, undo))

    def flush(self, descriptor: int) -> None:
        """Told that something was flushed."""
        path = os.readlink(f"/proc/self/fd/{descriptor}")
        if os.path.isdir(path):
            for folders, _ in self.undo:
                folders.discard(path)
            self.undo = [u for u in self.undo if u[0]]
        else:
            info = os.fstat(descriptor)
            held = self.flushed.get(info.st_ino)
            self.flushed[info.st_ino] = held[0] if held else os.dup(descriptor), info.st_size

    def cut(self) -> None:
        """Forget whatever was not flushed."""
        self.off = True
        for descriptor, size in self.flushed.values():
            if os.fstat(descriptor).st_size > size:
                os.ftruncate(descriptor, size)
        for _, undo in reversed(self.undo):
            with suppress(OSError):  # what it was about is not there any more
                undo()

    @staticmethod
    def _back(one: str, other: str, before: int, saved: str) -> None:
        if _inode(other) == before and not os.path.lexists(one) and os.path.isdir(os.path.dirname(one)):
            os.rename(other, one)
            if saved:
                os.rename(saved, other)

    @staticmethod
    def _change_back(one: str, other: str, before: int) -> None:
        if _inode(other) == before and os.path.lexists(one):
            os.rename(one, one + ".was")
            os.rename(other, one)
            os.rename(one + ".was", other)


def _inode(path: str) -> int:
    try:
        return os.lstat(path).st_ino
    except OSError:
        return -1


def _gone(path: str) -> None:
    if os.path.lexists(path):
        os.unlink(path)


def _is_database(path: str) -> bool:
    if path.endswith(("-wal", "-shm", "-journal")):
        return True
    try:
        with open(os.open(path, os.O_RDONLY), "rb") as file:
            return file.read(6) == b"SQLite"
    except OSError:
        return path.endswith(".db")
