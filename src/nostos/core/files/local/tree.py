"""A file tree on this machine, worked on by paths relative to its root.

Every folder on the way to a file is opened by itself, and never through a link: so whoever may write in the tree cannot
lead Nostos out of it by swapping a folder for a link, neither while it reads nor while it writes. This is the one home
of ownership, flushing, links and free space.
"""

from __future__ import annotations

import errno
import hashlib
import os
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager

from nostos.core.errors import LockHeld
from nostos.core.files.entry import FileEntry
from nostos.core.files.local.copy import copy_tree, take_tree
from nostos.core.files.local.reading import LocalReading
from nostos.core.files.tree import CHUNK, CopiedFile, Copy, FileTree, Owner, Status
from nostos.core.hosts.helper import finish, hold, pour, put


class LocalTree(LocalReading):
    """A tree below a folder of this machine."""

    # --- whose it is

    def give(self, path: str, owner: Owner, mode: int | None = None) -> None:
        if not self.hand_over(path, data_of(owner), mode):
            self.not_given.append(path)

    # --- writing: nothing is ever written over, and nothing through a link

    def make_folder(self, path: str, mode: int, owner: Owner | None = None) -> None:
        owner = owner or self.owner(path)
        with self.place(path) as (parent, name):
            os.mkdir(name, 0o700, dir_fd=parent)
        self.give(path, owner, mode)

    def write(self, path: str, content: bytes, mode: int, owner: Owner | None = None, like: Status | None = None
              ) -> None:
        owner = owner or self.owner(path)
        if self.words is not None and self.speaks(path):
            content = self.words.own(self.meant.get(path, path), content)
        opened = self.create(path)
        try:
            put(opened, content)
            self._finish(opened, path, mode, owner)
            if like is not None:
                os.utime(opened, ns=(like.accessed, like.modified))
            os.fsync(opened)
        finally:
            os.close(opened)

    def copy_in(self, source: FileTree, path: str, target: str, mode: int, owner: Owner | None = None) -> bytes:
        owner = owner or self.owner(target)
        spoken = self.copy_spoken(source, path, target, mode, owner)
        if spoken is not None:
            return spoken
        if not isinstance(source, LocalTree):
            return self._take_in(source, path, target, mode, owner)
        read = source.open(path)
        try:
            write = self.create(target)
            try:
                digest, times, _ = pour(read, write)
                self._finish(write, target, mode, owner)
                os.utime(write, ns=times)
                os.fsync(write)
            finally:
                os.close(write)
        finally:
            os.close(read)
        return digest

    def _take_in(self, source: FileTree, path: str, target: str, mode: int, owner: Owner) -> bytes:
        """`copy_in` from a tree of another kind, whose content comes in pieces."""
        with source.opened(path) as file:
            return self._taken(iter(lambda: file.read(CHUNK), b""), file.status(), target, mode, owner)

    def _taken(self, pieces: Iterable[bytes], info: Status | None, target: str, mode: int, owner: Owner) -> bytes:
        digest = hashlib.blake2b(digest_size=16)
        write = self.create(target)
        try:
            for piece in pieces:
                digest.update(piece)
                put(write, piece)
            self._finish(write, target, mode, owner)
            if info is not None:
                os.utime(write, ns=(info.accessed, info.modified))
            os.fsync(write)
        finally:
            os.close(write)
        return digest.digest()

    def _copies_plain(self, source: FileTree, copies: Sequence[Copy]) -> Iterator[bytes]:
        if isinstance(source, LocalTree):
            yield from super()._copies_plain(source, copies)
            return
        entries = [FileEntry(c.path, "file", c.size, c.mode, (0, 0)) for c in copies]
        for copy, copied in zip(copies, source.given_out(entries), strict=True):
            if copied.error is not None:
                raise copied.error
            yield self._taken(copied.pieces, copied.info, copy.target, copy.mode, copy.owner or self.owner(copy.target))

    def copy_all(self, source: FileTree, entries: Sequence[FileEntry], small: int) -> Iterator[CopiedFile]:
        if isinstance(source, LocalTree):
            return copy_tree(source, self, entries, small)
        return take_tree(source, self, entries, small)

    def _finish(self, opened: int, path: str, mode: int | None, owner: Owner, flush: bool = False) -> None:
        if not finish(opened, mode, data_of(owner), flush=flush):
            self.not_given.append(path)

    def make_link(self, path: str, to: str, owner: Owner | None = None) -> None:
        owner = owner or self.owner(path)
        with self.place(path) as (parent, name):
            os.symlink(to, name, dir_fd=parent)
        self.give(path, owner)

    def again(self, path: str, target: str) -> None:
        if self.second_name(path, target):
            return
        info = self.status(path)
        if info is None:
            raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), path)
        if info.is_link:
            self.make_link(target, self.link(path), self.owner(path))
        else:
            self.copy_in(self, path, target, info.rights, self.owner(path))

    def times(self, path: str, info: Status) -> None:
        with self.place(path) as (parent, name):
            os.utime(name, ns=(info.accessed, info.modified), dir_fd=parent, follow_symlinks=False)

    @contextmanager
    def lock(self, seconds: float) -> Iterator[None]:
        opened = os.open(self.root, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            who = hold(opened, seconds)
            if who is not None:
                raise LockHeld(f"{who} on this machine".strip())
            yield
        finally:
            os.close(opened)


def data_of(owner: Owner) -> tuple[int, int, tuple[tuple[str, bytes], ...]]:
    return owner.user, owner.group, owner.attributes
