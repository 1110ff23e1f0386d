"""The protocol of a file tree: whatever a site's files lie on answers it.

Paths are relative to the tree's root, with forward slashes; "" is the root itself. A path that would leave the tree, by
`..` or through a link, is refused with SiteError. What goes wrong otherwise is an OSError, as on this machine:
FileNotFoundError, FileExistsError, PermissionError and so on. Nothing is ever written over, and nothing through a link.
"""

from __future__ import annotations

import errno
import io
import os
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, nullcontext, suppress
from dataclasses import replace
from typing import Any, Protocol

from nostos.core.errors import leaves
from nostos.core.files.entry import NO_FILES, OWN_PREFIX, FileEntry, digest_of, summed
from nostos.core.files.words import LARGEST, Words
from nostos.core.hosts.far_path import AnyPath, host_of
from nostos.core.records import dataclass

_TRIES = 3
CHUNK = 1 << 20  # bytes
SPARE = 64 << 20  # bytes that are left free where a whole site is laid down
SMALL = 1 << 17  # bytes, at most, of a file that is fetched ahead


@dataclass(frozen=True)
class Status:
    """What lies at a path, itself and not where it leads. kind: "file", "link", "folder" or "other". rights: the twelve
    bits of its mode. modified, changed: times, ns. user, group: whose it is. accessed: a time, ns."""

    kind: str
    rights: int
    size: int
    inode: int
    modified: int
    changed: int
    user: int
    group: int
    accessed: int = 0

    @property
    def is_folder(self) -> bool:
        return self.kind == "folder"

    @property
    def is_file(self) -> bool:
        return self.kind == "file"

    @property
    def is_link(self) -> bool:
        return self.kind == "link"


@dataclass(frozen=True)
class Signature:
    """What changes with anything that is done to a file: its kind, inode, size, time of change (ns) and rights."""

    kind: str
    inode: int
    size: int
    time: int
    mode: int

    @classmethod
    def of(cls, info: Status) -> Signature:
        """What changes of a status with anything that is done to the file."""
        return cls(info.kind, info.inode, 0 if info.is_folder else info.size, 0 if info.is_folder else info.modified,
                   info.rights)


@dataclass(frozen=True)
class Owner:
    """Whose a file is: user and group, and extended attributes (access control lists are among them)."""

    user: int
    group: int
    attributes: tuple[tuple[str, bytes], ...] = ()


@dataclass(frozen=True)
class SkippedFile:
    """An entry that was passed over, and why."""

    path: str
    reason: str


@dataclass(frozen=True)
class CopiedFile:
    """A file or link that was copied. stamp: the copy's times, ns. head: a file's content, if it is a small one.

    error: why it could not be copied; then the rest says nothing.
    """

    entry: FileEntry
    digest: bytes = b""
    stamp: tuple[int, int] = (0, 0)
    head: bytes | None = None
    error: OSError | None = None


@dataclass(frozen=True)
class GivenFile:
    """A file, link or empty folder as it is given out: what it is, whose, where a link leads, a file's pieces.

    error: why it could not be read; then the rest says nothing.
    """

    entry: FileEntry
    info: Status | None = None
    owner: Owner | None = None
    led: str = ""
    pieces: Iterable[bytes] = ()
    error: OSError | None = None


Asked = tuple[str, *tuple[Any, ...]]
ANYTHING = object()


@dataclass(frozen=True)
class Call:
    """A method of a tree, to be called with these arguments, and what it is expected to give."""

    name: str
    args: tuple[str, ...]
    expected: Any = ANYTHING


@dataclass(frozen=True)
class Copy:
    """A file of another tree that is to be copied. owner: whose it is to be; None: as the folder that it lies in."""

    path: str
    target: str
    mode: int
    owner: Owner | None = None
    size: int = 0


class OpenFile(Protocol):
    """A file that is being read."""

    def read(self, most: int = -1, /) -> bytes:
        """The next bytes, as many as are asked for where there are so many; all that are left without."""

    def status(self) -> Status:
        """What it is now, whatever name it has."""


class SaidFile(io.BytesIO):
    """An open file in other words than it is written in."""

    def __init__(self, content: bytes, status: Status) -> None:
        super().__init__(content)
        self._status = status

    def status(self) -> Status:
        return self._status


class FileTree(ABC):
    """A tree of files. not_given: paths of what could not be given to the user or group that it should belong to.
    meant: files that stand under another path for a while, by that, and the path that they are meant for.
    called: files that are asked for by other paths than they lie at, both ways (see compare/two_names). words: the
    tree's own, where some of its files are read and written in another site's."""

    not_given: list[str]
    words: Words | None = None
    called: Mapping[str, str] = {}
    meant: dict[str, str]
    followed: Mapping[str, str] = {}  # links to folders that are as if the folders lay there, and where each must lead

    # --- where it is

    @property
    @abstractmethod
    def where(self) -> str:
        """Where its root is, for people; two trees are one where this is the same."""

    @property
    @abstractmethod
    def at(self) -> AnyPath:
        """Its root, as a path."""

    @property
    def host(self) -> str:
        """The host that it is on; empty for this machine."""
        return host_of(self.at)

    @property
    def has_files(self) -> bool:
        """Whether there is a tree at all: a site may have none."""
        return self.where.rpartition("/")[2] != NO_FILES

    @abstractmethod
    def within(self, place: AnyPath) -> str | None:
        """A path as one in the tree; None where it lies outside."""

    @abstractmethod
    def make_root(self) -> None:
        """Make the root, private, where it is not there."""

    # --- looking

    @abstractmethod
    def status(self, path: str) -> Status | None:
        """What lies at a path; None where there is nothing."""

    @abstractmethod
    def names(self, path: str) -> list[str]:
        """What a folder holds, sorted; nothing where there is no folder."""

    @abstractmethod
    def link(self, path: str) -> str:
        """Where a link leads."""

    def led(self, path: str) -> tuple[str, Status] | None:
        """Where a link to a folder leads, on the tree's machine, and what is there; None where it is no such link, or
        cannot be followed."""
        return None

    @abstractmethod
    def opened(self, path: str) -> AbstractContextManager[OpenFile]:
        """A file, open for reading: the same one, though its name be given to another. Raises SiteError for a link."""

    def digest(self, path: str) -> bytes:
        """BLAKE2b of a file's content, 16 bytes."""
        return summed(self.pieces(path))

    def digests(self, paths: Sequence[str]) -> dict[str, bytes]:
        """The digests of many files, by their paths; none of what is not there."""
        digests = {}
        for path in paths:
            with suppress(FileNotFoundError):
                digests[path] = self.digest(path)
        return digests

    def given_out(self, entries: Sequence[FileEntry]) -> Iterator[GivenFile]:
        """Many files, for a tree of another machine. Each is to be read before the next is asked for."""
        for entry in entries:
            try:
                info = self.status(entry.path)
                if info is None:
                    raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), entry.path)
                owner, led = self.owner(entry.path), self.link(entry.path) if info.is_link else ""
                if not info.is_file:
                    yield GivenFile(entry, info, owner, led)
                    continue
                with self.opened(entry.path) as file:
                    yield GivenFile(entry, info, owner, "", iter(lambda: file.read(CHUNK), b""))
            except OSError as error:
                yield GivenFile(entry, error=error)

    @abstractmethod
    def scan(self, apart: Iterable[str], ignore: Iterable[str], passed: Callable[[SkippedFile], None] = lambda _: None
             ) -> Iterator[FileEntry]:
        """Every file, link and empty folder, without digests of files, in a stable order. Links are never followed, and
        what vanishes while it is looked at is passed over.

        apart: paths that are not the tree's own. ignore: patterns to leave out. What cannot be read, is no plain file
        or links out of the tree is told to `passed`.
        """

    @abstractmethod
    def free(self, path: str = "") -> int:
        """Bytes that are free on the disk that a path is on."""

    @abstractmethod
    def may_write(self, path: str) -> bool:
        """Whether this user may write to a file or in a folder."""

    @abstractmethod
    def may_give(self, owner: Owner) -> bool:
        """Whether this user may give a file to another."""

    @abstractmethod
    def owner(self, path: str) -> Owner:
        """Whose a path is; where there is nothing, whose the nearest folder above it is, without its attributes."""

    # --- writing

    @abstractmethod
    def give(self, path: str, owner: Owner, mode: int | None = None) -> None:
        """Make a path belong to someone, and set its rights; what may not be given away is noted."""

    @abstractmethod
    def make_folder(self, path: str, mode: int, owner: Owner | None = None) -> None:
        """Make a folder in one that is there. owner: whose it is to be; None: as the folder that it lies in."""

    @abstractmethod
    def write(self, path: str, content: bytes, mode: int, owner: Owner | None = None, like: Status | None = None
              ) -> None:
        """Write a new file, flushed to disk. owner: as in `make_folder`. like: what it has its times from."""

    @abstractmethod
    def copy_in(self, source: FileTree, path: str, target: str, mode: int, owner: Owner | None = None) -> bytes:
        """Copy a file of another tree to a new place in this one, flushed to disk, with its times. owner: as in
        `make_folder`. Returns the digest of what was copied."""

    @abstractmethod
    def copy_all(self, source: FileTree, entries: Sequence[FileEntry], small: int) -> Iterator[CopiedFile]:
        """Copy these files and links of another tree to the same places here, where their folders are made, with the
        rights and, where that is allowed, the owners that they have in the source; not flushed. small: up to how many
        bytes a file's content is given along. In the entries' order."""

    @abstractmethod
    def make_link(self, path: str, to: str, owner: Owner | None = None) -> None:
        """Make a symbolic link."""

    @abstractmethod
    def again(self, path: str, target: str) -> None:
        """A second name for a file or a link, in a new place; where there are no such names, a copy."""

    @abstractmethod
    def move(self, path: str, target: str) -> None:
        """Rename something, in place of a file or an empty folder that is there."""

    @abstractmethod
    def move_new(self, path: str, target: str) -> None:
        """Rename something to a name that nothing has. Raises FileExistsError where something has it."""

    @abstractmethod
    def exchange(self, one: str, other: str) -> bool:
        """Change two things for each other, in one step. False: this cannot be done here."""

    @abstractmethod
    def times(self, path: str, info: Status) -> None:
        """Give a folder or file the times that another has."""

    @abstractmethod
    def remove(self, path: str) -> None:
        """Remove a file, a link, or a folder with all that is in it; nothing where there is nothing."""

    @abstractmethod
    def remove_empty(self, path: str) -> bool:
        """Remove a folder that holds nothing. False: it holds something, or is none."""

    @abstractmethod
    def sync(self, path: str) -> None:
        """Make names in a folder survive a power cut; nothing where there is none any more."""

    @abstractmethod
    def lock(self, seconds: float) -> AbstractContextManager[None]:
        """Hold the tree as a whole, against every other program that does. Raises Held when another has it."""

    # --- many things at once, which over a slow line is much faster than one after another

    def looking_ahead(self, asked: Iterable[Asked]) -> AbstractContextManager[None]:
        """What will be asked for in a block, by methods' names and arguments: where trips are long, all of it is
        fetched at once. What is written to the tree meanwhile makes it look again."""
        return nullcontext()

    @staticmethod
    def small(path: str) -> Asked:
        """For `looking_ahead`: that a file will be read, if it is a small one."""
        return ("content", path, SMALL)

    def in_order(self, calls: Sequence[Call]) -> list[Any]:
        """Do one thing after another, until one does not give what is expected. Returns what was given, so that there
        are fewer than calls, or the last is not as expected, where it stopped."""
        results: list[Any] = []
        for call in calls:
            results.append(getattr(self, call.name)(*call.args))
            if call.expected is not ANYTHING and results[-1] != call.expected:
                break
        return results

    def copies_in(self, source: FileTree, copies: Sequence[Copy]) -> Iterator[bytes]:
        """`copy_in` of many files. Gives the digest of each, in their order."""
        spoken = [(source.speaks(c.path) or self.speaks(c.target)) and c.size <= LARGEST for c in copies]
        parts = {way: [c for c, done in zip(copies, spoken, strict=True) if done is way] for way in (True, False)}
        ways = {True: self._copies_said(source, parts[True]), False: self._copies_plain(source, parts[False])}
        for done in spoken:
            yield next(ways[done])

    def _copies_plain(self, source: FileTree, copies: Sequence[Copy]) -> Iterator[bytes]:
        for copy in copies:
            yield self.copy_in(source, copy.path, copy.target, copy.mode, copy.owner)

    def _copies_said(self, source: FileTree, copies: Sequence[Copy]) -> Iterator[bytes]:
        """Of files that either tree has in another site's words."""
        for copy, (content, info) in zip(copies, source.contents([c.path for c in copies]), strict=True):
            self.write(copy.target, content, copy.mode, copy.owner, info)
            yield digest_of(content)

    def contents(self, paths: Sequence[str]) -> Iterator[tuple[bytes, Status]]:
        """What small files hold, in their order. Raises OSError where one cannot be read."""
        for path in paths:
            with self.opened(path) as file:
                yield file.read(), file.status()

    # --- what follows from these

    def scanned(self, path: str, kind: str, size: int, rights: int, modified: int, changed: int,
                led: str | None) -> FileEntry:
        """What a scan found, by the path that it is asked for by. led: where a link leads."""
        path = self.called.get(path, path)
        if kind == "file":
            return FileEntry(path, kind, size, rights, (modified, changed))
        return FileEntry(path, kind, size, rights, (modified, changed),
                         digest_of((led or "").encode("utf-8", "surrogateescape")))

    def disk_of(self, path: str) -> str:
        """The followed link that a path is below; empty for what is in the tree itself."""
        return next((f for f in self.followed if path == f or path.startswith(f + "/")), "")

    def speaks(self, path: str) -> bool:
        """Whether a file is read and written in another site's words."""
        return self.words is not None and self.words.speaks(self.meant.get(path, path))

    def copy_spoken(self, source: FileTree, path: str, target: str, mode: int, owner: Owner | None) -> bytes | None:
        """`copy_in` of a file that either tree has in another site's words; None: this is none of those."""
        info = source.status(path) if source.speaks(path) or self.speaks(target) else None
        if info is None or info.size > LARGEST:
            return None
        content = source.read(path)
        self.write(target, content, mode, owner, info)
        return digest_of(content)

    def pieces(self, path: str) -> Iterator[bytes]:
        """A file's content, streamed."""
        with self.opened(path) as file:
            while piece := file.read(CHUNK):
                yield piece

    def read(self, path: str, most: int = -1) -> bytes:
        """A file's content, or its first bytes."""
        with self.opened(path) as file:
            return file.read(most)

    def signature(self, path: str) -> Signature | None:
        """The signature of what is at a path; None where nothing is."""
        info = self.status(path)
        return None if info is None else Signature.of(info)

    def is_folder(self, path: str) -> bool:
        """Whether a folder is there, and no link to one."""
        info = self.status(path)
        return info is not None and info.is_folder

    def is_file(self, path: str) -> bool:
        """Whether there is a plain file; a link to one is none."""
        info = self.status(path)
        return info is not None and info.is_file

    def entry(self, path: str, digest: bool = False) -> FileEntry | None:
        """The file, link or empty folder at a path; None where there is none, or a folder that holds something. digest:
        of a file's content too."""
        entry = None
        for _ in range(_TRIES):
            info = self.status(path)
            if info is None:
                return None
            if info.is_folder:
                return None if self.names(path) else FileEntry(path, "folder", 0, info.rights, (0, 0), digest_of(b""))
            stamp = (info.modified, info.changed)
            if info.is_link:
                return FileEntry(path, "link", 0, 0o777, stamp,
                             digest_of(self.link(path).encode("utf-8", "surrogateescape")))
            entry = FileEntry(path, "file", info.size, info.rights, stamp)
            if not digest:
                return entry
            with suppress(FileNotFoundError):
                entry = replace(entry, digest=self.digest(path))
                after = self.status(path)
                if after is not None and (after.modified, after.changed) == stamp:
                    return entry
        return None if entry is None else replace(entry, stamp=(0, 0))  # it is written all the while

    def walk(self, path: str) -> Iterator[tuple[str, Status]]:
        """Everything below a folder, folders before what they hold, by its path in the tree. What vanishes meanwhile,
        and what is Nostos's own, is passed over."""
        for name in self.names(path):
            below = f"{path}/{name}" if path else name
            info = None if name.startswith(OWN_PREFIX) else self.status(below)
            if info is not None:
                yield below, info
                if info.is_folder:
                    yield from self.walk(below)

    def size_of(self, path: str) -> int:
        """Bytes of all files below a folder."""
        return sum(info.size for _, info in self.walk(path) if info.is_file)

    def make_above(self, path: str, rights: Callable[[str], tuple[int, Owner | None]]) -> None:
        """Make the missing folders above a path. rights: what each of them is to have, by its own path."""
        done = ""
        for part in path.split("/")[:-1]:
            done = f"{done}/{part}" if done else part
            if self.status(done) is None:
                self.make_folder(done, *rights(done))


def checked(path: str) -> list[str]:
    """The parts of a relative path. Raises SiteError when it would leave its tree."""
    parts = path.split("/")
    if path.startswith("/") or "\0" in path or any(p in ("", ".", "..") for p in parts):
        raise leaves(path)
    return parts
