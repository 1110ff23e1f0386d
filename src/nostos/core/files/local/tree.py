"""A file tree on this machine, worked on by paths relative to its root.

Every folder on the way to a file is opened by itself, and never through a link: so whoever may write in the tree cannot
lead Nostos out of it by swapping a folder for a link, neither while it reads nor while it writes. This is the one home
of ownership, flushing, links and free space.
"""

from __future__ import annotations

import errno
import hashlib
import os
import stat
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress

from nostos.core.files.entry import FileEntry, digest_of
from nostos.core.files.local.calls import (
    EXCHANGE,
    NOT_OVER,
    chown,
    create,
    hold,
    rename_with,
    set_attributes,
)
from nostos.core.files.local.copy import copy_tree, take_tree
from nostos.core.files.local.reading import GONE, LocalReading
from nostos.core.files.tree import CHUNK, CopiedFile, Copy, FileTree, Owner, Status
from nostos.core.files.words import LARGEST
from nostos.core.hosts.helper import pour, put
from nostos.core.private_files import sync_descriptor


class LocalTree(LocalReading):
    """A tree below a folder of this machine."""

    # --- whose it is

    def give(self, path: str, owner: Owner, mode: int | None = None) -> None:
        if not path:
            self._give_open(self._any(""), path, owner, mode)
            return
        with self.place(path) as (parent, name):
            info = os.stat(name, dir_fd=parent, follow_symlinks=False)
            if not stat.S_ISLNK(info.st_mode):
                self._give_open(os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC,
                                        dir_fd=parent), path, owner, mode)
            elif (info.st_uid, info.st_gid) != (owner.user, owner.group) and not chown(
                    lambda user, group: os.chown(name, user, group, dir_fd=parent, follow_symlinks=False), owner):
                self.not_given.append(path)

    def _give_open(self, opened: int, path: str, owner: Owner, mode: int | None) -> None:
        try:
            self._finish(opened, path, mode, owner, attributes=True)
        finally:
            os.close(opened)

    # --- writing: nothing is ever written over, and nothing through a link

    def make_folder(self, path: str, mode: int, owner: Owner | None = None) -> None:
        owner = owner or self.owner(path)
        with self.place(path) as (parent, name):
            os.mkdir(name, 0o700, dir_fd=parent)
        self.give(path, owner, mode)

    def write(self, path: str, content: bytes, mode: int, owner: Owner | None = None) -> None:
        owner = owner or self.owner(path)
        if self.words is not None and self.speaks(path):
            content = self.words.own(path, content)
        opened = self._create(path)
        try:
            put(opened, content)
            self._finish(opened, path, mode, owner, flush=True)
        finally:
            os.close(opened)

    def copy_in(self, source: FileTree, path: str, target: str, mode: int, owner: Owner | None = None) -> bytes:
        owner = owner or self.owner(target)
        info = source.status(path) if source.speaks(path) or self.speaks(target) else None
        if info is not None and info.size <= LARGEST:
            content = source.read(path)
            self.write(target, content, mode, owner)
            self.times(target, info)
            return digest_of(content)
        if not isinstance(source, LocalTree):
            return self._take_in(source, path, target, mode, owner)
        read = source.open(path)
        try:
            write = self._create(target)
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
        write = self._create(target)
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

    def copies_in(self, source: FileTree, copies: Sequence[Copy]) -> Iterator[bytes]:
        plain = [c for c in copies if not (source.speaks(c.path) or self.speaks(c.target))]
        if isinstance(source, LocalTree) or len(plain) < len(copies):
            yield from super().copies_in(source, copies)
            return
        entries = [FileEntry(c.path, "file", c.size, c.mode, (0, 0)) for c in copies]
        for copy, given in zip(copies, source.given_out(entries), strict=True):
            if given.error is not None:
                raise given.error
            yield self._taken(given.pieces, given.info, copy.target, copy.mode, copy.owner or self.owner(copy.target))

    def copy_all(self, source: FileTree, entries: Sequence[FileEntry], small: int) -> Iterator[CopiedFile]:
        if isinstance(source, LocalTree):
            return copy_tree(source, self, entries, small)
        return take_tree(source, self, entries, small)

    def _create(self, path: str) -> int:
        with self.place(path) as (parent, name):
            return create(name, parent)

    def _finish(self, opened: int, path: str, mode: int | None, owner: Owner, flush: bool = False,
                attributes: bool = False) -> None:
        """Whose an open file is to be, and its rights. attributes: the owner's are set though there be none."""
        info = os.fstat(opened)
        if (info.st_uid, info.st_gid) != (owner.user, owner.group) and not chown(
                lambda user, group: os.fchown(opened, user, group), owner):
            self.not_given.append(path)
        if mode is not None:
            os.fchmod(opened, mode)
        if owner.attributes or attributes:
            set_attributes(opened, owner.attributes)
            if mode is not None and stat.S_IMODE(os.fstat(opened).st_mode) != mode:
                os.fchmod(opened, mode)  # an access control list has a word in it
        if flush:
            os.fsync(opened)

    def make_link(self, path: str, to: str, owner: Owner | None = None) -> None:
        owner = owner or self.owner(path)
        with self.place(path) as (parent, name):
            os.symlink(to, name, dir_fd=parent)
        self.give(path, owner)

    def again(self, path: str, target: str) -> None:
        try:
            with self.place(path) as (parent, name), self.place(target) as (other, new):
                os.link(name, new, src_dir_fd=parent, dst_dir_fd=other, follow_symlinks=False)
            return
        except OSError as error:
            if error.errno in (errno.EEXIST, errno.ENOENT, errno.ENOSPC, errno.EDQUOT):
                raise
        info = self.status(path)
        if info is None:
            raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), path)
        if info.is_link:
            self.make_link(target, self.link(path), self.owner(path))
        else:
            self.copy_in(self, path, target, info.rights, self.owner(path))

    def move(self, path: str, target: str) -> None:
        with self.place(path) as (parent, name), self.place(target) as (other, new):
            os.rename(name, new, src_dir_fd=parent, dst_dir_fd=other)

    def move_new(self, path: str, target: str) -> None:
        with self.place(path) as (parent, name), self.place(target) as (other, new):
            if rename_with(NOT_OVER, parent, name, other, new):
                return
            if self.status(target) is not None:  # the kernel, or the filesystem, is an old one
                raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), target)
            os.rename(name, new, src_dir_fd=parent, dst_dir_fd=other)

    def exchange(self, one: str, other: str) -> bool:
        with self.place(one) as (parent, name), self.place(other) as (second, new):
            return rename_with(EXCHANGE, parent, name, second, new)

    def times(self, path: str, info: Status) -> None:
        with self.place(path) as (parent, name):
            os.utime(name, ns=(info.accessed, info.modified), dir_fd=parent, follow_symlinks=False)

    def remove(self, path: str) -> None:
        info = self.status(path)
        if info is None:
            return
        if info.is_folder:
            for name in self.names(path):
                self.remove(f"{path}/{name}")
            self.remove_empty(path)
            return
        with self.place(path) as (parent, name), suppress(FileNotFoundError):
            os.unlink(name, dir_fd=parent)

    def remove_empty(self, path: str) -> bool:
        try:
            with self.place(path) as (parent, name):
                os.rmdir(name, dir_fd=parent)
            return True
        except OSError as error:
            if error.errno in (*GONE, errno.ENOTEMPTY, errno.EEXIST):
                return False
            raise

    def sync(self, path: str) -> None:
        with suppress(FileNotFoundError, NotADirectoryError), self.folder(path) as opened:
            sync_descriptor(opened)

    @contextmanager
    def lock(self, seconds: float) -> Iterator[None]:
        opened = os.open(self.root, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            hold(opened, seconds)
            yield
        finally:
            os.close(opened)
