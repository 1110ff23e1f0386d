"""A file tree on this machine, worked on by paths relative to its root.

Every folder on the way to a file is opened by itself, and never through a link: so whoever may write in the tree cannot
lead Nostos out of it by swapping a folder for a link, neither while it reads nor while it writes. This is the one home
of ownership, flushing, links and free space.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager

from nostos.core.errors import LockHeld
from nostos.core.files.entry import FileEntry
from nostos.core.files.local.copy import copy_tree, take_tree
from nostos.core.files.local.reading import LocalReading
from nostos.core.files.tree import CHUNK, CopiedFile, Copy, FileTree, Owner, Status
from nostos.core.hosts.helper import hold


class LocalTree(LocalReading):
    """A tree below a folder of this machine."""

    # --- whose it is

    def give(self, path: str, owner: Owner, mode: int | None = None) -> None:
        self._note(path, self.hand_over(path, data_of(owner), mode))

    # --- writing: nothing is ever written over, and nothing through a link

    def make_folder(self, path: str, mode: int, owner: Owner | None = None) -> None:
        self._note(path, self.lay_folder(path, mode, self._data(path, owner)))

    def write(self, path: str, content: bytes, mode: int, owner: Owner | None = None, like: Status | None = None
              ) -> None:
        owner = owner or self.owner(path)
        if self.words is not None and self.speaks(path):
            content = self.words.own(self.meant.get(path, path), content)
        self._taken((content,), like, path, mode, owner)

    def copy_in(self, source: FileTree, path: str, target: str, mode: int, owner: Owner | None = None) -> bytes:
        owner = owner or self.owner(target)
        spoken = self.copy_spoken(source, path, target, mode, owner)
        if spoken is not None:
            return spoken
        if not isinstance(source, LocalTree):
            with source.opened(path) as file:
                return self._taken(iter(lambda: file.read(CHUNK), b""), file.status(), target, mode, owner)
        digest, given, *_ = self.lay_copy(source, path, target, mode, data_of(owner))
        self._note(target, given)
        return bytes(digest)

    def _taken(self, pieces: Iterable[bytes], info: Status | None, target: str, mode: int, owner: Owner) -> bytes:
        """A new file with this content, and the times of another. Returns its digest."""
        times = None if info is None else (info.accessed, info.modified)
        digest, given, _ = self.lay_file(target, pieces, mode, data_of(owner), times)
        self._note(target, given)
        return bytes(digest)

    def _data(self, path: str, owner: Owner | None) -> tuple[int, int, tuple[tuple[str, bytes], ...]]:
        return data_of(owner or self.owner(path))

    def _note(self, path: str, given: bool) -> None:
        if not given:
            self.not_given.append(path)

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

    def make_link(self, path: str, to: str, owner: Owner | None = None) -> None:
        self._note(path, self.lay_link(path, to, self._data(path, owner)))

    def again(self, path: str, target: str) -> None:
        self._note(target, self.lay_again(path, target))

    def times(self, path: str, info: Status) -> None:
        self.set_times(path, info.accessed, info.modified)

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
