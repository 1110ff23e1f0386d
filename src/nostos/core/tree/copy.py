"""Copying files with their digests computed on the way."""

from __future__ import annotations

import hashlib
import os
import stat
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from itertools import chain
from pathlib import Path

from nostos.core.tree.entries import Entry

_CHUNK = 1 << 20
_TRIES = 3
_THREADS = 2  # one computes digests while the other waits for the disk
_FILES_AT_ONCE = 64
_FILES_A_ROUND = 2048


@dataclass(frozen=True)
class Copied:
    """A file or link that was copied. stamp: the copy's times, ns. head: a file's content, if it is a small one.

    error: why it could not be copied; then the rest says nothing.
    """

    entry: Entry
    digest: bytes = b""
    stamp: tuple[int, int] = (0, 0)
    head: bytes | None = None
    error: OSError | None = None


def copy_file(source: Path, target: Path, mode: int) -> bytes:
    """Copy one file, flush it to disk, give it its rights and times. Returns the digest of what was copied.

    The target must not exist, so that nothing is written through a link that someone laid there.
    """
    digest, _, _ = _copy(source, target, mode, flush=True)
    return digest


def write_file(content: bytes, target: Path, mode: int) -> None:
    """Write a new file, flushed to disk, with these rights."""
    descriptor = os.open(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
    with os.fdopen(descriptor, "wb") as file:
        file.write(content)
        file.flush()
        os.fchmod(file.fileno(), mode)
        os.fsync(file.fileno())


def _copy(source: Path | str, target: Path | str, mode: int, flush: bool) -> tuple[bytes, tuple[int, int], bytes]:
    """Returns the digest, the copy's times and its first piece."""
    read = os.open(source, os.O_RDONLY | os.O_CLOEXEC)
    try:
        write = os.open(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
        try:
            before = os.fstat(read)
            for _ in range(_TRIES):
                digest, head = _pour(read, write, sparse=before.st_blocks * 512 < before.st_size)
                after = os.fstat(read)
                if (after.st_mtime_ns, after.st_size) == (before.st_mtime_ns, before.st_size):
                    break
                before = after  # it was written while it was read
                os.lseek(read, 0, os.SEEK_SET)
                os.lseek(write, 0, os.SEEK_SET)
                os.ftruncate(write, 0)
            with suppress(OSError):  # not every filesystem has them
                for name in os.listxattr(read):
                    os.setxattr(write, name, os.getxattr(read, name))
            os.fchmod(write, mode)
            os.utime(write, ns=(before.st_atime_ns, before.st_mtime_ns))
            if flush:
                os.fsync(write)
            made = os.fstat(write)
        finally:
            os.close(write)
    finally:
        os.close(read)
    return digest, (made.st_mtime_ns, made.st_ctime_ns), head


def _pour(read: int, write: int, sparse: bool) -> tuple[bytes, bytes]:
    """Copy from one open file to another; holes stay holes. Returns the digest and the first piece."""
    digest = hashlib.blake2b(digest_size=16)
    head = b""
    size = 0
    while True:
        chunk = os.read(read, _CHUNK)
        digest.update(chunk)
        head = head or chunk
        size += len(chunk)
        if sparse and not chunk.strip(b"\0"):
            os.lseek(write, len(chunk), os.SEEK_CUR)
        else:
            rest = memoryview(chunk)
            while rest:
                rest = rest[os.write(write, rest):]
        if len(chunk) < _CHUNK and (not chunk or size >= os.fstat(read).st_size):
            break
    if sparse:
        os.ftruncate(write, size)
    return digest.digest(), head


def copy_tree(source: Path, target: Path, entries: Sequence[Entry], small: int) -> Iterator[Copied]:
    """Copy these files and links to the same places in another tree, where their folders are made, with the rights
    that they have in the source. small: up to how many bytes a file's content is given along. In the entries' order.
    """
    folders: set[str] = set()
    for entry in entries:
        folder = entry.path.rpartition("/")[0]
        while folder and folder not in folders:
            folders.add(folder)
            folder = folder.rpartition("/")[0]
    target.mkdir(parents=True, exist_ok=True)
    for folder in sorted(folders):
        (target / folder).mkdir(exist_ok=True)
    root, into = f"{source}/", f"{target}/"

    def one(entry: Entry) -> Copied:
        try:
            if entry.kind == "folder":
                (target / entry.path).mkdir(exist_ok=True)
                (target / entry.path).chmod(entry.mode)
                return Copied(entry, entry.digest or b"")
            if entry.kind == "link":
                (target / entry.path).symlink_to((source / entry.path).readlink())
                info = (target / entry.path).lstat()
                return Copied(entry, entry.digest or b"", (info.st_mtime_ns, info.st_ctime_ns))
            # Not flushed: a clone that a crash cuts short is made anew.
            digest, stamp, head = _copy(root + entry.path, into + entry.path, entry.mode, flush=False)
            return Copied(entry, digest, stamp, head if len(head) <= small and entry.size <= small else None)
        except OSError as error:
            return Copied(entry, error=error)

    yield from _in_threads(one, entries)
    for folder in sorted(folders, reverse=True):
        with suppress(FileNotFoundError):
            (target / folder).chmod(stat.S_IMODE((source / folder).stat().st_mode))


def _in_threads(one: Callable[[Entry], Copied], entries: Sequence[Entry]) -> Iterator[Copied]:
    """Do one thing with every entry. Some thousands are done before any is given out: the one who takes them, and the
    threads, would only wait for each other."""
    def some(part: Sequence[Entry]) -> list[Copied]:
        return [one(entry) for entry in part]

    with ThreadPoolExecutor(_THREADS) as pool:
        for start in range(0, len(entries), _FILES_A_ROUND):
            end = min(start + _FILES_A_ROUND, len(entries))
            parts = [entries[at:min(at + _FILES_AT_ONCE, end)] for at in range(start, end, _FILES_AT_ONCE)]
            yield from chain.from_iterable(list(pool.map(some, parts)))
