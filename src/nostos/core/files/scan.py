"""A file tree as data: scanning it, and what each entry is."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

from nostos.core.files.entry import NO_FILES, OWN_PREFIX, Entry, entry_of, folder_of
from nostos.core.patterns import compiled


@dataclass(frozen=True)
class Passed:
    """An entry that was passed over, and why."""

    path: str
    reason: str


def scan(root: Path, apart: Iterable[Path], ignore: Iterable[str],
         passed: Callable[[Passed], None] = lambda _: None) -> Iterator[Entry]:
    """Every file and link below `root`, without digests, in a stable order. Links are never followed, and what vanishes
    while it is looked at is passed over.

    apart: files that are not the tree's own. ignore: patterns to leave out. What cannot be read, is no plain file or
    links out of the tree is told to `passed`.
    """
    plain, below = compiled(ignore)
    outside = {os.path.realpath(p.parent) + "/" + p.name for p in apart}
    base = os.path.realpath(root)

    def walk(opened: int, prefix: str) -> Iterator[Entry]:
        try:
            with os.scandir(opened) as listed:
                found = sorted(listed, key=lambda e: e.name)
        except OSError as error:
            passed(Passed(prefix.rstrip("/") or ".", f"cannot be read: {error.strerror}"))
            return
        if not found and prefix:
            yield folder_of(prefix[:-1], os.fstat(opened))
        for entry in found:
            path = prefix + entry.name
            if entry.name.startswith(OWN_PREFIX) or f"{base}/{path}" in outside or plain(path):
                continue
            try:
                path.encode()
            except UnicodeEncodeError:
                passed(Passed(path.encode("utf-8", "replace").decode(), "its name is not valid UTF-8"))
                continue
            try:
                info = entry.stat(follow_symlinks=False)
                if stat.S_ISDIR(info.st_mode):
                    if not below(path):
                        yield from folder(opened, entry.name, path)
                elif stat.S_ISLNK(info.st_mode):
                    target = os.readlink(entry.name, dir_fd=opened)
                    resolved = os.path.realpath(f"{base}/{path}")
                    if target.startswith("/") or not (resolved + "/").startswith(base + "/"):
                        passed(Passed(path, f"is a link out of the tree, to {target}"))
                        continue
                    yield entry_of(path, info, target)
                elif not stat.S_ISREG(info.st_mode):
                    passed(Passed(path, "is neither a file, a folder nor a link"))
                elif not os.access(entry.name, os.R_OK, dir_fd=opened):
                    if _is_there(entry.name, opened):
                        passed(Passed(path, "cannot be read: no permission"))
                else:
                    yield entry_of(path, info)
            except FileNotFoundError:
                continue

    def folder(parent: int, name: str, path: str) -> Iterator[Entry]:
        try:
            opened = os.open(name, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=parent)
        except FileNotFoundError:
            return
        except OSError as error:
            passed(Passed(path, f"cannot be read: {error.strerror}"))
            return
        try:
            yield from walk(opened, path + "/")
        finally:
            os.close(opened)

    if root.name != NO_FILES:
        try:
            opened = os.open(base, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        except OSError as error:
            passed(Passed(".", f"cannot be read: {error.strerror}"))
            return
        try:
            yield from walk(opened, "")
        finally:
            os.close(opened)


def _is_there(name: str, parent: int) -> bool:
    try:
        os.stat(name, dir_fd=parent, follow_symlinks=False)
    except FileNotFoundError:
        return False
    return True
