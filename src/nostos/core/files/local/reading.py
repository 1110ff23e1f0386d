"""Finding the way in a tree of this machine, and looking."""

from __future__ import annotations

import errno
import io
import os
import shutil
import stat
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import replace
from pathlib import Path

from nostos.core.errors import led_away, led_elsewhere
from nostos.core.files.entry import FileEntry
from nostos.core.files.local.calls import attributes
from nostos.core.files.local.scan import scan
from nostos.core.files.tree import FileTree, OpenFile, Owner, SaidFile, SkippedFile, Status, checked
from nostos.core.files.words import LARGEST
from nostos.core.hosts.far_path import AnyPath
from nostos.core.hosts.helper import is_link

_FOLDER = os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
GONE = (errno.ENOENT, errno.ENOTDIR, errno.ENAMETOOLONG)  # there is no such thing, and there cannot be


class _File(io.FileIO):
    """An open file; closed by whoever opened it."""

    def read(self, most: int | None = -1, /) -> bytes:
        if most is None or most < 0:
            return self.readall()
        parts, left = [], most
        while left > 0 and (piece := super().read(left)):
            parts.append(piece)
            left -= len(piece)
        return b"".join(parts)

    def status(self) -> Status:
        return status_of(os.fstat(self.fileno()))


class LocalReading(FileTree):
    """A tree below a folder of this machine, as far as it is only read."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self.not_given = []
        self.called = {}

    @property
    def where(self) -> str:
        return str(self.root)

    @property
    def at(self) -> AnyPath:
        return self.root

    def within(self, place: AnyPath) -> str | None:
        if not isinstance(place, Path):
            return None
        folder, _, name = str(place).rpartition("/")
        path, base = f"{os.path.realpath(folder or '/')}/{name}", os.path.realpath(self.root)
        return path[len(base) + 1:] if path.startswith(base + "/") else "" if path == base else None

    def make_root(self) -> None:
        self.root.mkdir(mode=0o700, parents=True, exist_ok=True)

    @contextmanager
    def folder(self, path: str, readable: bool = True) -> Iterator[int]:
        """An open descriptor of a folder. readable: to be listed or flushed, not only to work in. Raises SiteError
        where a link leads there, or the path leaves the tree; OSError where there is none."""
        parts = checked(path) if path else []
        last = os.O_RDONLY if readable else os.O_PATH
        opened = os.open(self.root, os.O_DIRECTORY | os.O_CLOEXEC | (os.O_PATH if parts else last))
        try:
            for number, part in enumerate(parts, start=1):
                how = last if number == len(parts) else os.O_PATH
                led = self.followed.get("/".join(parts[:number])) if self.followed else None
                try:
                    below = self._followed("/".join(parts[:number]), led, how) if led else os.open(
                        part, _FOLDER | how, dir_fd=opened)
                except OSError as error:
                    if error.errno in (errno.ELOOP, errno.ENOTDIR) and is_link(part, opened):
                        raise led_away(path) from None
                    raise
                os.close(opened)
                opened = below
            yield opened
        finally:
            os.close(opened)

    def _followed(self, path: str, led: str, how: int) -> int:
        """The folder that a link leads to, open: only the one that it led to when it was decided to follow it."""
        if os.path.realpath(self.root / path) != led:
            raise led_elsewhere(path, led)
        return os.open(led, _FOLDER | how)

    @contextmanager
    def place(self, path: str) -> Iterator[tuple[int, str]]:
        """The folder that a path lies in, open, and its last name."""
        parts = checked(self.called.get(path, path))
        with self.folder("/".join(parts[:-1]), readable=False) as parent:
            yield parent, parts[-1]

    def _stat(self, path: str) -> os.stat_result | None:
        try:
            if not path:
                return self.root.stat()
            if path in self.followed:
                with self.folder(path, readable=False) as opened:
                    return os.fstat(opened)
            with self.place(path) as (parent, name):
                return os.stat(name, dir_fd=parent, follow_symlinks=False)
        except OSError as error:
            if error.errno in GONE:
                return None
            raise

    def status(self, path: str) -> Status | None:
        info = self._stat(path)
        return None if info is None else status_of(info)

    def names(self, path: str) -> list[str]:
        try:
            with self.folder(path) as opened:
                found = os.listdir(opened)  # noqa: PTH208 - by a descriptor
                if self.called:
                    above = f"{path}/" if path else ""
                    found = [self.called.get(above + n, n).rpartition("/")[2] for n in found]
                return sorted(found)
        except OSError as error:
            if error.errno in GONE:
                return []
            raise

    def link(self, path: str) -> str:
        with self.place(path) as (parent, name):
            return os.readlink(name, dir_fd=parent)

    def open(self, path: str) -> int:
        """An open descriptor of a file, for reading. Raises SiteError for a link."""
        if path in self.followed:
            with self.folder(path) as led:
                return os.dup(led)
        with self.place(path) as (parent, name):
            try:
                return os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=parent)
            except OSError as error:
                if error.errno == errno.ELOOP:
                    raise led_away(path) from None
                raise

    def led(self, path: str) -> tuple[str, Status] | None:
        info = self._stat(path)
        if info is None or not stat.S_ISLNK(info.st_mode):
            return None
        led = os.path.realpath(self.root / path)
        try:
            there = status_of(Path(led).stat())
        except OSError:
            return None
        return (led, there) if there.is_folder else None

    @contextmanager
    def opened(self, path: str) -> Iterator[OpenFile]:
        file = _File(self.open(path), "rb")
        try:
            if self.words is not None and self.speaks(path) and file.status().size <= LARGEST:
                yield SaidFile(self.words.live(path, file.read()), file.status())
            else:
                yield file
        finally:
            file.close()

    def scan(self, apart: Iterable[str], ignore: Iterable[str], passed: Callable[[SkippedFile], None] = lambda _: None
             ) -> Iterator[FileEntry]:
        found = scan(self.root, apart, ignore, passed, self.followed) if self.has_files else iter(())
        return (replace(e, path=self.called.get(e.path, e.path)) for e in found) if self.called else found

    def free(self, path: str = "") -> int:
        return shutil.disk_usage(self.followed.get(self.disk_of(path), self.root)).free

    def may_write(self, path: str) -> bool:
        return os.access(self.root / path if path else self.root, os.W_OK)

    def may_give(self, owner: Owner) -> bool:
        user = os.geteuid()
        return user == 0 or (owner.user == user and owner.group in (os.getegid(), *os.getgroups()))

    def owner(self, path: str) -> Owner:
        info = self._stat(path)
        if info is not None:
            return Owner(info.st_uid, info.st_gid, self._attributes(path, info))
        while info is None and path:
            path = path.rpartition("/")[0]
            info = self._stat(path)
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


def status_of(info: os.stat_result) -> Status:
    mode = info.st_mode
    kind = ("file" if stat.S_ISREG(mode) else "folder" if stat.S_ISDIR(mode) else "link" if stat.S_ISLNK(mode)
            else "other")
    return Status(kind, stat.S_IMODE(mode), info.st_size, info.st_ino, info.st_mtime_ns, info.st_ctime_ns, info.st_uid,
                  info.st_gid, info.st_atime_ns)
