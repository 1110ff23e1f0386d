"""A file tree as data: scanning it, and what each entry is."""

from __future__ import annotations

import hashlib
import os
import stat
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

from nostos.core.errors import SiteError
from nostos.core.patterns import _compiled

NO_FILES = ".nostos-none"  # the tree of a site without files: never made
OWN_PREFIX = ".nostos-"  # whatever Nostos itself lays down in a tree


@dataclass(frozen=True)
class Entry:
    """A file, a link or an empty folder in a tree. path: relative, with forward slashes. stamp: modification and change
    time, ns; none of a folder's.

    digest: BLAKE2b of the content, 16 bytes, or of the target of a link; None where it was not computed.
    """

    path: str
    kind: str  # "file", "link" or "folder"
    size: int
    mode: int
    stamp: tuple[int, int]
    digest: bytes | None = None

    def same_as(self, other: Entry | None) -> bool:
        """Whether both hold the same content and rights."""
        return other is not None and (self.kind, self.digest, self.mode) == (other.kind, other.digest, other.mode)


@dataclass(frozen=True)
class Passed:
    """An entry that was passed over, and why."""

    path: str
    reason: str


def inside(root: Path, relative: str) -> Path:
    """The path of an entry under `root`. Raises SiteError when it would leave the root, through `..` or a link."""
    parts = relative.split("/")
    if relative.startswith("/") or "\0" in relative or any(p in ("", ".", "..") for p in parts):
        raise SiteError(f"The path {relative!r} leaves its folder.", next_step="Rename the file, or leave it out.")
    parent = root.joinpath(*parts[:-1])
    if not parent.resolve().is_relative_to(root.resolve()):
        raise SiteError(f"The path {relative!r} leaves its folder through a link.",
                        next_step="Replace the link with a folder, or leave the file out.")
    return root.joinpath(*parts)


def plain_text(raw: bytes | None) -> bytes | None:
    """The content of a file, if it is text."""
    if raw is None or b"\0" in raw:
        return None
    try:
        raw.decode()
    except UnicodeDecodeError:
        return None
    return raw


def digest_of(content: bytes) -> bytes:
    """BLAKE2b of a content, 16 bytes."""
    return hashlib.blake2b(content, digest_size=16).digest()


def entry_of(path: str, info: os.stat_result, target: str | None = None) -> Entry:
    """What lies at a path, by its status; target: where it leads, for a link."""
    stamp = (info.st_mtime_ns, info.st_ctime_ns)
    if target is None:
        return Entry(path, "file", info.st_size, stat.S_IMODE(info.st_mode), stamp)
    return Entry(path, "link", 0, 0o777, stamp, digest_of(os.fsencode(target)))


def folder_of(path: str, info: os.stat_result) -> Entry:
    """An empty folder, which has to be told for it to be there elsewhere."""
    return Entry(path, "folder", 0, stat.S_IMODE(info.st_mode), (0, 0), digest_of(b""))


def scan(root: Path, apart: Iterable[Path], ignore: Iterable[str],
         passed: Callable[[Passed], None] = lambda _: None) -> Iterator[Entry]:
    """Every file and link below `root`, without digests, in a stable order. Links are never followed, and what vanishes
    while it is looked at is passed over.

    apart: files that are not the tree's own. ignore: patterns to leave out. What cannot be read, is no plain file or
    links out of the tree is told to `passed`.
    """
    plain, below = _compiled(ignore)
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
