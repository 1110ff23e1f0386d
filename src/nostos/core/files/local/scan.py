"""Listing a tree of this machine."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import suppress
from pathlib import Path

from nostos.core.errors import led_elsewhere
from nostos.core.files.entry import OWN_PREFIX, STAMP, FileEntry, digest_of
from nostos.core.files.tree import SkippedFile
from nostos.core.patterns import compiled


def scan(root: Path, apart: Iterable[str], ignore: Iterable[str],
         passed: Callable[[SkippedFile], None] = lambda _: None, followed: Mapping[str, str] | None = None
         ) -> Iterator[FileEntry]:
    """Every file and link below `root`, as `FileTree.scan` gives them. followed: links, and the folders that they are
    as if they were."""
    return _Scan(os.path.realpath(root), apart, ignore, passed, followed or {}).run()


class _Scan:
    def __init__(self, base: str, apart: Iterable[str], ignore: Iterable[str],
                 passed: Callable[[SkippedFile], None], followed: Mapping[str, str]) -> None:
        self.followed = followed
        self.base = base
        self.plain, self.below = compiled(ignore)
        self.outside = set(apart)
        self.passed = passed

    def run(self) -> Iterator[FileEntry]:
        yield from self._opened(lambda: os.open(self.base, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC), "")

    def _opened(self, opening: Callable[[], int], path: str) -> Iterator[FileEntry]:
        try:
            opened = opening()
        except FileNotFoundError as error:
            if not path:
                self.passed(SkippedFile(".", f"cannot be read: {error.strerror}"))
            return
        except OSError as error:
            self.passed(SkippedFile(path or ".", f"cannot be read: {error.strerror}"))
            return
        try:
            yield from self._walk(opened, path + "/" if path else "")
        finally:
            os.close(opened)

    def _walk(self, opened: int, prefix: str) -> Iterator[FileEntry]:
        try:
            with os.scandir(opened) as listed:
                found = sorted(listed, key=lambda e: e.name)
        except OSError as error:
            self.passed(SkippedFile(prefix.rstrip("/") or ".", f"cannot be read: {error.strerror}"))
            return
        if prefix and any(entry.name == STAMP for entry in found):
            return  # a staging copy, which is a site of its own
        if not found and prefix:
            yield folder_of(prefix[:-1], os.fstat(opened))
        for entry in found:
            path = prefix + entry.name
            if entry.name.startswith(OWN_PREFIX) or path in self.outside or self.plain(path):
                continue
            try:
                path.encode()
            except UnicodeEncodeError:
                self.passed(SkippedFile(path.encode("utf-8", "replace").decode(), "its name is not valid UTF-8"))
                continue
            with suppress(FileNotFoundError):
                yield from self._entry(opened, entry, path)

    def _entry(self, opened: int, entry: os.DirEntry[str], path: str) -> Iterator[FileEntry]:
        info = entry.stat(follow_symlinks=False)
        if stat.S_ISDIR(info.st_mode):
            if not self.below(path):
                yield from self._opened(lambda: os.open(
                    entry.name, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=opened), path)
        elif stat.S_ISLNK(info.st_mode) and path in self.followed:
            if os.path.realpath(f"{self.base}/{path}") != self.followed[path]:  # else all in it would count as removed
                raise led_elsewhere(path, self.followed[path])
            yield from self._opened(lambda: os.open(
                self.followed[path], os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC), path)
        elif stat.S_ISLNK(info.st_mode):
            target = os.readlink(entry.name, dir_fd=opened)
            resolved = os.path.realpath(f"{self.base}/{path}")
            if target.startswith("/") or not (resolved + "/").startswith(self.base + "/"):
                self.passed(SkippedFile(path, f"is a link out of the tree, to {target}"))
            else:
                yield entry_of(path, info, target)
        elif not stat.S_ISREG(info.st_mode):
            self.passed(SkippedFile(path, "is neither a file, a folder nor a link"))
        elif os.access(entry.name, os.R_OK, dir_fd=opened):
            yield entry_of(path, info)
        elif _is_there(entry.name, opened):
            self.passed(SkippedFile(path, "cannot be read: no permission"))


def _is_there(name: str, parent: int) -> bool:
    try:
        os.stat(name, dir_fd=parent, follow_symlinks=False)
    except FileNotFoundError:
        return False
    return True


def entry_of(path: str, info: os.stat_result, target: str | None = None) -> FileEntry:
    """What lies at a path, by its status; target: where it leads, for a link."""
    stamp = (info.st_mtime_ns, info.st_ctime_ns)
    if target is None:
        return FileEntry(path, "file", info.st_size, stat.S_IMODE(info.st_mode), stamp)
    return FileEntry(path, "link", 0, 0o777, stamp, digest_of(os.fsencode(target)))


def folder_of(path: str, info: os.stat_result) -> FileEntry:
    """An empty folder, which has to be told for it to be there elsewhere."""
    return FileEntry(path, "folder", 0, stat.S_IMODE(info.st_mode), (0, 0), digest_of(b""))
