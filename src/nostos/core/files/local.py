"""A file tree on this machine, worked on by paths relative to its root.

Every folder on the way to a file is opened by itself, and never through a link: so whoever may write in the tree cannot
lead Nostos out of it by swapping a folder for a link, neither while it reads nor while it writes. This is the one home
of ownership, flushing, links and free space.
"""

from __future__ import annotations

import ctypes
import errno
import hashlib
import os
import shutil
import stat
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from nostos.core.errors import SiteError
from nostos.core.files.entry import OWN_PREFIX, Entry, entry_of, folder_of
from nostos.core.private_files import sync_descriptor

CHUNK = 1 << 20
_TRIES = 3
_FOLDER = os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_NOT_OVER, _EXCHANGE = 1, 2  # RENAME_NOREPLACE and RENAME_EXCHANGE, renameat2(2)
_GONE = (errno.ENOENT, errno.ENOTDIR, errno.ENAMETOOLONG)  # there is no such thing, and there cannot be


@dataclass(frozen=True)
class Signature:
    """What changes with anything that is done to a file: its kind, inode, size, time of change (ns) and rights."""

    kind: int
    inode: int
    size: int
    time: int
    mode: int

    @classmethod
    def of(cls, info: os.stat_result) -> Signature:
        folder = stat.S_ISDIR(info.st_mode)
        return cls(stat.S_IFMT(info.st_mode), info.st_ino, 0 if folder else info.st_size,
                   0 if folder else info.st_mtime_ns, stat.S_IMODE(info.st_mode))


@dataclass(frozen=True)
class Owner:
    """Whose a file is: user and group, and extended attributes (access control lists are among them)."""

    user: int
    group: int
    attributes: tuple[tuple[str, bytes], ...] = ()


class LocalTree:
    """A tree below a folder of this machine. Paths are relative, with forward slashes; "" is the root itself.

    not_given: paths of what could not be given to the user or group that it should belong to.
    """

    def __init__(self, root: Path) -> None:
        self.root = root
        self.not_given: list[str] = []

    # --- finding the way

    @contextmanager
    def folder(self, path: str, readable: bool = True) -> Iterator[int]:
        """An open descriptor of a folder. readable: to be listed or flushed, not only to work in. Raises SiteError
        where a link leads there, or the path leaves the tree; OSError where there is none."""
        parts = checked(path) if path else []
        last = os.O_RDONLY if readable else os.O_PATH
        opened = os.open(self.root, os.O_DIRECTORY | os.O_CLOEXEC | (os.O_PATH if parts else last))
        try:
            for number, part in enumerate(parts, start=1):
                try:
                    below = os.open(part, _FOLDER | (last if number == len(parts) else os.O_PATH), dir_fd=opened)
                except OSError as error:
                    if error.errno in (errno.ELOOP, errno.ENOTDIR) and _is_link(part, opened):
                        raise _led_away(path) from None
                    raise
                os.close(opened)
                opened = below
            yield opened
        finally:
            os.close(opened)

    @contextmanager
    def place(self, path: str) -> Iterator[tuple[int, str]]:
        """The folder that a path lies in, open, and its last name."""
        parts = checked(path)
        with self.folder("/".join(parts[:-1]), readable=False) as parent:
            yield parent, parts[-1]

    def status(self, path: str) -> os.stat_result | None:
        """What lies at a path, itself and not where it leads; None where there is nothing."""
        try:
            if not path:
                return self.root.stat()
            with self.place(path) as (parent, name):
                return os.stat(name, dir_fd=parent, follow_symlinks=False)
        except OSError as error:
            if error.errno in _GONE:
                return None
            raise

    # --- looking

    def signature(self, path: str) -> Signature | None:
        info = self.status(path)
        return None if info is None else Signature.of(info)

    def is_folder(self, path: str) -> bool:
        info = self.status(path)
        return info is not None and stat.S_ISDIR(info.st_mode)

    def names(self, path: str) -> list[str]:
        """What a folder holds, sorted; nothing where there is no folder."""
        try:
            with self.folder(path) as opened:
                return sorted(os.listdir(opened))  # noqa: PTH208 - by a descriptor
        except OSError as error:
            if error.errno in _GONE:
                return []
            raise

    def entry(self, path: str, digest: bool = False) -> Entry | None:
        """The file, link or empty folder at a path; None where there is none, or a folder that holds something. digest:
        of a file's content too."""
        for _ in range(_TRIES):
            info = self.status(path)
            if info is None:
                return None
            if stat.S_ISDIR(info.st_mode):
                return None if self.names(path) else folder_of(path, info)
            if stat.S_ISLNK(info.st_mode):
                return entry_of(path, info, self.link(path))
            found = entry_of(path, info)
            if not digest:
                return found
            with suppress(FileNotFoundError):
                found = replace(found, digest=self.digest(path))
                after = self.status(path)
                if after is not None and entry_of(path, after).stamp == found.stamp:
                    return found
        return replace(found, stamp=(0, 0))  # it is written all the while

    def link(self, path: str) -> str:
        """Where a link leads."""
        with self.place(path) as (parent, name):
            return os.readlink(name, dir_fd=parent)

    def open(self, path: str) -> int:
        """An open descriptor of a file, for reading. Raises SiteError for a link."""
        with self.place(path) as (parent, name):
            try:
                return os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=parent)
            except OSError as error:
                if error.errno == errno.ELOOP:
                    raise _led_away(path) from None
                raise

    def read(self, path: str, most: int = -1) -> bytes:
        """A file's content, or its first bytes."""
        with os.fdopen(self.open(path), "rb") as file:
            return file.read(most)

    def digest(self, path: str) -> bytes:
        """BLAKE2b of a file's content, 16 bytes."""
        digest = hashlib.blake2b(digest_size=16)
        opened = self.open(path)
        try:
            while chunk := os.read(opened, CHUNK):
                digest.update(chunk)
        finally:
            os.close(opened)
        return digest.digest()

    def walk(self, path: str) -> Iterator[tuple[str, os.stat_result]]:
        """Everything below a folder, folders before what they hold, by its path in the tree. What vanishes meanwhile,
        and what is Nostos's own, is passed over."""
        for name in self.names(path):
            below = f"{path}/{name}" if path else name
            info = None if name.startswith(OWN_PREFIX) else self.status(below)
            if info is not None:
                yield below, info
                if stat.S_ISDIR(info.st_mode):
                    yield from self.walk(below)

    def size_of(self, path: str) -> int:
        """Bytes of all files below a folder."""
        return sum(info.st_size for _, info in self.walk(path) if stat.S_ISREG(info.st_mode))

    def free(self) -> int:
        """Bytes that are free on its disk."""
        return shutil.disk_usage(self.root).free

    # --- whose it is

    def owner(self, path: str) -> Owner:
        """Whose a path is; where there is nothing, whose the nearest folder above it is, without its attributes."""
        info = self.status(path)
        if info is not None:
            return Owner(info.st_uid, info.st_gid, self._attributes(path, info))
        while info is None and path:
            path = path.rpartition("/")[0]
            info = self.status(path)
        assert info is not None
        return Owner(info.st_uid, info.st_gid)

    def _attributes(self, path: str, info: os.stat_result) -> tuple[tuple[str, bytes], ...]:
        if stat.S_ISLNK(info.st_mode):
            return ()
        with suppress(OSError):  # not every filesystem has them
            opened = self._any(path)
            try:
                return attributes(opened)
            finally:
                os.close(opened)
        return ()

    def _any(self, path: str) -> int:
        """A descriptor of a file or a folder."""
        if not path:
            return os.open(self.root, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        return self.open(path)

    def give(self, path: str, owner: Owner, mode: int | None = None) -> None:
        """Make a path belong to someone, and set its rights; what may not be given away is noted."""
        with self.place(path) as (parent, name):
            info = os.stat(name, dir_fd=parent, follow_symlinks=False)
            if (info.st_uid, info.st_gid) != (owner.user, owner.group) and not _chown(
                    lambda user, group: os.chown(name, user, group, dir_fd=parent, follow_symlinks=False), owner):
                self.not_given.append(path)
            if stat.S_ISLNK(info.st_mode):
                return
            opened = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=parent)
            try:
                if mode is not None:
                    os.fchmod(opened, mode)
                set_attributes(opened, owner.attributes)
                if mode is not None and stat.S_IMODE(os.fstat(opened).st_mode) != mode:
                    os.fchmod(opened, mode)  # an access control list has a word in it
            finally:
                os.close(opened)

    # --- writing: nothing is ever written over, and nothing through a link

    def make_folder(self, path: str, mode: int, owner: Owner | None = None) -> None:
        """Make a folder in one that is there. owner: whose it is to be; None: as the folder that it lies in."""
        owner = owner or self.owner(path)
        with self.place(path) as (parent, name):
            os.mkdir(name, 0o700, dir_fd=parent)
        self.give(path, owner, mode)

    def make_above(self, path: str, rights: Callable[[str], tuple[int, Owner | None]]) -> None:
        """Make the missing folders above a path. rights: what each of them is to have, by its own path."""
        done = ""
        for part in path.split("/")[:-1]:
            done = f"{done}/{part}" if done else part
            if self.status(done) is None:
                self.make_folder(done, *rights(done))

    def write(self, path: str, content: bytes, mode: int, owner: Owner | None = None) -> None:
        """Write a new file, flushed to disk. owner: whose it is to be; None: as the folder that it lies in."""
        owner = owner or self.owner(path)
        opened = self._create(path)
        try:
            rest = memoryview(content)
            while rest:
                rest = rest[os.write(opened, rest):]
            self._finish(opened, path, mode, owner, flush=True)
        finally:
            os.close(opened)

    def copy_in(self, source: LocalTree, path: str, target: str, mode: int, owner: Owner | None = None) -> bytes:
        """Copy a file of another tree to a new place in this one, flushed to disk, with its times. owner: as in
        `write`. Returns the digest of what was copied."""
        owner = owner or self.owner(target)
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

    def _create(self, path: str) -> int:
        with self.place(path) as (parent, name):
            return create(name, parent)

    def _finish(self, opened: int, path: str, mode: int, owner: Owner, flush: bool = False) -> None:
        info = os.fstat(opened)
        if (info.st_uid, info.st_gid) != (owner.user, owner.group) and not _chown(
                lambda user, group: os.fchown(opened, user, group), owner):
            self.not_given.append(path)
        os.fchmod(opened, mode)
        if owner.attributes:
            set_attributes(opened, owner.attributes)
            if stat.S_IMODE(os.fstat(opened).st_mode) != mode:
                os.fchmod(opened, mode)
        if flush:
            os.fsync(opened)

    def make_link(self, path: str, to: str, owner: Owner | None = None) -> None:
        """Make a symbolic link."""
        owner = owner or self.owner(path)
        with self.place(path) as (parent, name):
            os.symlink(to, name, dir_fd=parent)
        self.give(path, owner)

    def again(self, path: str, target: str) -> None:
        """A second name for a file or a link, in a new place; where the filesystem has no such names, or does not allow
        this one, a copy."""
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
        if stat.S_ISLNK(info.st_mode):
            self.make_link(target, self.link(path), self.owner(path))
        else:
            self.copy_in(self, path, target, stat.S_IMODE(info.st_mode), self.owner(path))

    def move(self, path: str, target: str) -> None:
        """Rename something, in place of a file or an empty folder that is there."""
        with self.place(path) as (parent, name), self.place(target) as (other, new):
            os.rename(name, new, src_dir_fd=parent, dst_dir_fd=other)

    def move_new(self, path: str, target: str) -> None:
        """Rename something to a name that nothing has. Raises FileExistsError where something has it."""
        with self.place(path) as (parent, name), self.place(target) as (other, new):
            if rename_with(_NOT_OVER, parent, name, other, new):
                return
            if self.status(target) is not None:  # the kernel, or the filesystem, is an old one
                raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), target)
            os.rename(name, new, src_dir_fd=parent, dst_dir_fd=other)

    def exchange(self, one: str, other: str) -> bool:
        """Change two things for each other, in one step. False: this system cannot."""
        with self.place(one) as (parent, name), self.place(other) as (second, new):
            return rename_with(_EXCHANGE, parent, name, second, new)

    def times(self, path: str, info: os.stat_result) -> None:
        """Give a folder or file the times that another has."""
        with self.place(path) as (parent, name):
            os.utime(name, ns=(info.st_atime_ns, info.st_mtime_ns), dir_fd=parent, follow_symlinks=False)

    def remove(self, path: str) -> None:
        """Remove a file, a link, or a folder with all that is in it; nothing where there is nothing."""
        info = self.status(path)
        if info is None:
            return
        if stat.S_ISDIR(info.st_mode):
            for name in self.names(path):
                self.remove(f"{path}/{name}")
            self.remove_empty(path)
            return
        with self.place(path) as (parent, name), suppress(FileNotFoundError):
            os.unlink(name, dir_fd=parent)

    def remove_empty(self, path: str) -> bool:
        """Remove a folder that holds nothing. False: it holds something, or is none."""
        try:
            with self.place(path) as (parent, name):
                os.rmdir(name, dir_fd=parent)
            return True
        except OSError as error:
            if error.errno in (*_GONE, errno.ENOTEMPTY, errno.EEXIST):
                return False
            raise

    def sync(self, path: str) -> None:
        """Make names in a folder survive a power cut; nothing where there is none any more."""
        with suppress(FileNotFoundError, NotADirectoryError), self.folder(path) as opened:
            sync_descriptor(opened)


def checked(path: str) -> list[str]:
    """The parts of a relative path. Raises SiteError when it would leave its tree."""
    parts = path.split("/")
    if path.startswith("/") or "\0" in path or any(p in ("", ".", "..") for p in parts):
        raise SiteError(f"The path {path!r} leaves its folder.", next_step="Rename the file, or leave it out.")
    return parts


def _led_away(path: str) -> SiteError:
    return SiteError(f"The path {path!r} leaves its folder through a link.",
                     next_step="Replace the link with a folder, or leave the file out.")


def _is_link(name: str, parent: int) -> bool:
    try:
        return stat.S_ISLNK(os.stat(name, dir_fd=parent, follow_symlinks=False).st_mode)
    except OSError:
        return False


def create(name: str, parent: int) -> int:
    """A new file in an open folder, private until it gets its rights."""
    return os.open(name, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600, dir_fd=parent)


def pour(read: int, write: int) -> tuple[bytes, tuple[int, int], bytes]:
    """Copy one open file into another; holes stay holes; one that is written meanwhile is copied again, some times.
    Returns the digest, the times (ns) and the first piece."""
    before = os.fstat(read)
    for _ in range(_TRIES):
        digest, head = _poured(read, write, sparse=before.st_blocks * 512 < before.st_size)
        after = os.fstat(read)
        if (after.st_mtime_ns, after.st_size) == (before.st_mtime_ns, before.st_size):
            break
        before = after
        os.lseek(read, 0, os.SEEK_SET)
        os.lseek(write, 0, os.SEEK_SET)
        os.ftruncate(write, 0)
    return digest, (before.st_atime_ns, before.st_mtime_ns), head


def _poured(read: int, write: int, sparse: bool) -> tuple[bytes, bytes]:
    digest = hashlib.blake2b(digest_size=16)
    head = b""
    size = 0
    while True:
        chunk = os.read(read, CHUNK)
        digest.update(chunk)
        head = head or chunk
        size += len(chunk)
        if sparse and not chunk.strip(b"\0"):
            os.lseek(write, len(chunk), os.SEEK_CUR)
        else:
            rest = memoryview(chunk)
            while rest:
                rest = rest[os.write(write, rest):]
        if len(chunk) < CHUNK and (not chunk or size >= os.fstat(read).st_size):
            break
    if sparse:
        os.ftruncate(write, size)
    return digest.digest(), head


def attributes(opened: int) -> tuple[tuple[str, bytes], ...]:
    """The extended attributes of an open file; none where the filesystem has none."""
    try:
        return tuple((name, os.getxattr(opened, name)) for name in sorted(os.listxattr(opened)))
    except OSError:
        return ()


def set_attributes(opened: int, wanted: tuple[tuple[str, bytes], ...]) -> None:
    for name, value in wanted:
        with suppress(OSError):  # some are the system's own to give
            if not _has(opened, name, value):
                os.setxattr(opened, name, value)


def _has(opened: int, name: str, value: bytes) -> bool:
    try:
        return os.getxattr(opened, name) == value
    except OSError:
        return False


def _chown(chown: Callable[[int, int], None], owner: Owner) -> bool:
    """Give something away; the group alone, where the user cannot be had. Returns whether both could."""
    try:
        chown(owner.user, owner.group)
        return True
    except PermissionError:
        with suppress(PermissionError):
            chown(-1, owner.group)
        return False


def may_give(owner: Owner) -> bool:
    """Whether this user may give a file to another."""
    user = os.geteuid()
    return user == 0 or (owner.user == user and owner.group in (os.getegid(), *os.getgroups()))


def give_as(path: Path, model: Path) -> None:
    """Give a file or folder that Nostos made the rights of another, and its owner, where that is allowed."""
    info = model.stat()
    opened = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
    try:
        _chown(lambda user, group: os.fchown(opened, user, group), Owner(info.st_uid, info.st_gid))
        os.fchmod(opened, stat.S_IMODE(info.st_mode))
    finally:
        os.close(opened)


def _renameat2() -> Any:
    with suppress(OSError, AttributeError):
        found = ctypes.CDLL(None, use_errno=True).renameat2
        found.argtypes = (ctypes.c_int, ctypes.c_char_p, ctypes.c_int, ctypes.c_char_p, ctypes.c_uint)
        return found
    return None


_call = _renameat2()


def rename_with(flag: int, parent: int, name: str, other: int, new: str) -> bool:
    """renameat2(2). False: the kernel, the filesystem or the C library cannot."""
    if _call is None:
        return False
    sys.audit("nostos.exchange" if flag == _EXCHANGE else "os.rename", name, new, parent, other)
    if _call(parent, os.fsencode(name), other, os.fsencode(new), flag) == 0:
        return True
    number = ctypes.get_errno()
    if number in (errno.EINVAL, errno.ENOSYS, errno.ENOTSUP):
        return False
    raise OSError(number, os.strerror(number), name)
