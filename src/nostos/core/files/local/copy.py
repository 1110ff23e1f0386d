"""Copying a whole tree, with the digests of its files computed on the way."""

from __future__ import annotations

import hashlib
import os
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from itertools import chain

from nostos.core.files.entry import FileEntry
from nostos.core.files.local.reading import LocalReading
from nostos.core.files.tree import CopiedFile, FileTree
from nostos.core.hosts.helper import attributes, create, pour, put, set_attributes

_THREADS = 2  # one computes digests while the other waits for the disk
_FILES_AT_ONCE = 64
_FILES_A_ROUND = 2048
_HELD = 16  # open folders a thread


class _OpenFolders:
    """Open folders of a tree, the last few that were asked for: files of one folder come one after another."""

    def __init__(self, tree: LocalReading) -> None:
        self.tree = tree
        self._open: OrderedDict[str, int] = OrderedDict()

    def at(self, folder: str) -> int:
        descriptor = self._open.pop(folder, None)
        if descriptor is None:
            with self.tree.folder(folder) as opened:
                descriptor = os.dup(opened)
            if len(self._open) >= _HELD:
                os.close(self._open.popitem(last=False)[1])
        self._open[folder] = descriptor
        return descriptor

    def close(self) -> None:
        while self._open:
            os.close(self._open.popitem()[1])


class _Copier(threading.local):
    """What one thread holds open of both trees."""

    def __init__(self, source: LocalReading, target: LocalReading, every: list[_OpenFolders]) -> None:
        self.source, self.target = _OpenFolders(source), _OpenFolders(target)
        every += [self.source, self.target]


def copy_tree(source: LocalReading, target: LocalReading, entries: Sequence[FileEntry],
              small: int) -> Iterator[CopiedFile]:
    """Copy these files and links to the same places in another tree of this machine, as `FileTree.copy_all` does."""
    folders: set[str] = set()
    for entry in entries:
        folder = entry.path.rpartition("/")[0]
        while folder and folder not in folders:
            folders.add(folder)
            folder = folder.rpartition("/")[0]
    target.root.mkdir(mode=0o700, parents=True, exist_ok=True)
    for folder in sorted(folders):  # private until all is in them
        with target.place(folder) as (parent, name), suppress(FileExistsError):
            os.mkdir(name, 0o700, dir_fd=parent)
    every: list[_OpenFolders] = []
    held = _Copier(source, target, every)

    def one(entry: FileEntry) -> CopiedFile:
        folder, _, name = entry.path.rpartition("/")
        try:
            if entry.kind == "folder":
                with suppress(FileExistsError):
                    os.mkdir(name, 0o700, dir_fd=held.target.at(folder))
                target.give(entry.path, source.owner(entry.path), entry.mode)
                return CopiedFile(entry, entry.digest or b"")
            if entry.kind == "link":
                into = held.target.at(folder)
                os.symlink(os.readlink(name, dir_fd=held.source.at(folder)), name, dir_fd=into)
                info = os.stat(name, dir_fd=held.source.at(folder), follow_symlinks=False)
                if _foreign(info):
                    os.chown(name, info.st_uid, info.st_gid, dir_fd=into, follow_symlinks=False)
                info = os.stat(name, dir_fd=into, follow_symlinks=False)
                return CopiedFile(entry, entry.digest or b"", (info.st_mtime_ns, info.st_ctime_ns))
            # Not flushed: a clone that a crash cuts short is made anew.
            digest, stamp, head = _copy(held.source.at(folder), held.target.at(folder), name, entry.mode)
            return CopiedFile(entry, digest, stamp, head if len(head) <= small and entry.size <= small else None)
        except OSError as error:
            return CopiedFile(entry, error=error)

    try:
        yield from _in_threads(one, entries)
    finally:
        for one_held in every:
            one_held.close()
    for folder in sorted(folders, reverse=True):
        info = source.status(folder)
        if info is not None and target.is_folder(folder):
            target.give(folder, source.owner(folder), info.rights)


def take_tree(source: FileTree, target: LocalReading, entries: Sequence[FileEntry], small: int) -> Iterator[CopiedFile]:
    """`FileTree.copy_all` from a tree of another kind."""
    target.make_root()
    folders: set[str] = set()
    for out in source.given_out(entries):
        entry, owner, info = out.entry, out.owner, out.info
        if out.error is not None or info is None or owner is None:
            yield CopiedFile(entry, error=out.error)
            continue
        try:
            target.make_above(entry.path, lambda _: (0o700, None))
            folders |= {entry.path.rsplit("/", n)[0] for n in range(1, entry.path.count("/") + 1)}
            digest, head = entry.digest or b"", None
            if entry.kind == "folder":
                with suppress(FileExistsError):
                    target.make_folder(entry.path, entry.mode, owner)
                yield CopiedFile(entry, digest)
                continue
            if entry.kind == "link":
                target.make_link(entry.path, out.led, owner)
            else:
                digest, head = _poured_in(out.pieces, target, entry, small)
                target.give(entry.path, owner, entry.mode)
                target.times(entry.path, info)
            made = target.status(entry.path)
            yield CopiedFile(entry, digest, (made.modified, made.changed) if made else (0, 0), head)
        except OSError as error:
            yield CopiedFile(entry, error=error)
    for folder in sorted(folders, reverse=True):
        status = source.status(folder)
        if status is not None and target.is_folder(folder):
            target.give(folder, source.owner(folder), status.rights)


def _poured_in(pieces: Iterable[bytes], target: LocalReading, entry: FileEntry,
               small: int) -> tuple[bytes, bytes | None]:
    """A new file out of pieces; not flushed. Returns its digest, and its content, if it is a small one."""
    digest, kept = hashlib.blake2b(digest_size=16), []
    with target.place(entry.path) as (parent, name):
        opened = create(name, parent)
    try:
        for piece in pieces:
            digest.update(piece)
            put(opened, piece)
            if entry.size <= small:
                kept.append(piece)
    finally:
        os.close(opened)
    head = b"".join(kept)
    return digest.digest(), head if entry.size <= small and len(head) <= small else None


def _foreign(info: os.stat_result) -> bool:
    """Whether a copy should be given to another user, and may be."""
    return os.geteuid() == 0 and (info.st_uid, info.st_gid) != (os.geteuid(), os.getegid())


def _copy(source: int, target: int, name: str, mode: int) -> tuple[bytes, tuple[int, int], bytes]:
    """Copy a file from one open folder to another. Returns the digest, the copy's times and its first piece."""
    read = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=source)
    try:
        write = create(name, target)
        try:
            digest, times, head = pour(read, write)
            info = os.fstat(read)
            set_attributes(write, attributes(read))
            if _foreign(info):
                os.fchown(write, info.st_uid, info.st_gid)
            os.fchmod(write, mode)
            os.utime(write, ns=times)
            made = os.fstat(write)
        finally:
            os.close(write)
    finally:
        os.close(read)
    return digest, (made.st_mtime_ns, made.st_ctime_ns), head


def _in_threads(one: Callable[[FileEntry], CopiedFile], entries: Sequence[FileEntry]) -> Iterator[CopiedFile]:
    """Do one thing with every entry. Some thousands are done before any is given out: the one who takes them, and the
    threads, would only wait for each other."""
    def some(part: Sequence[FileEntry]) -> list[CopiedFile]:
        return [one(entry) for entry in part]

    with ThreadPoolExecutor(_THREADS) as pool:
        for start in range(0, len(entries), _FILES_A_ROUND):
            end = min(start + _FILES_A_ROUND, len(entries))
            parts = [entries[at:min(at + _FILES_AT_ONCE, end)] for at in range(start, end, _FILES_AT_ONCE)]
            yield from chain.from_iterable(list(pool.map(some, parts)))
