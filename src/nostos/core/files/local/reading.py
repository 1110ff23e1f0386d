"""Finding the way in a tree of this machine, and looking."""

from __future__ import annotations

import io
import os
import shutil
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from nostos.core.errors import refused_path
from nostos.core.files.entry import FileEntry
from nostos.core.files.tree import FileTree, OpenFile, Owner, SaidFile, SkippedFile, Status
from nostos.core.files.words import LARGEST
from nostos.core.hosts.far_path import AnyPath
from nostos.core.hosts.helper import Below, Scan, facts_of
from nostos.core.patterns import parted


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


class LocalReading(Below, FileTree):
    """A tree below a folder of this machine, as far as it is only read."""

    root: Path

    def __init__(self, root: Path) -> None:
        self.root = root
        self.not_given = []
        self.called = {}
        self.meant = {}

    @property
    def where(self) -> str:
        return str(self.root)

    @property
    def at(self) -> AnyPath:
        return self.root

    def within(self, place: AnyPath) -> str | None:
        return self.inside(str(place)) if isinstance(place, Path) else None

    @staticmethod
    def refused(reason: str, *details: Any) -> BaseException:
        return refused_path(reason, *details) or Below.refused(reason, *details)

    def status(self, path: str) -> Status | None:
        info = self.stat(path)
        return None if info is None else status_of(info)

    def names(self, path: str) -> list[str]:
        names = super().names(path)
        if not self.called:
            return names
        above = f"{path}/" if path else ""
        return sorted(self.called.get(above + n, n).rpartition("/")[2] for n in names)

    def led(self, path: str) -> tuple[str, Status] | None:
        target = self.led_to(path)
        return None if target is None else (target[0], status_of(target[1]))

    @contextmanager
    def opened(self, path: str) -> Iterator[OpenFile]:
        file = _File(self.open(path), "rb")
        try:
            if self.words is not None and self.speaks(path) and file.status().size <= LARGEST:
                yield SaidFile(self.words.live(self.meant.get(path, path), file.read()), file.status())
            else:
                yield file
        finally:
            file.close()

    def scan(self, apart: Iterable[str], ignore: Iterable[str], passed: Callable[[SkippedFile], None] = lambda _: None
             ) -> Iterator[FileEntry]:
        if not self.has_files:
            return
        for entries in Scan(self, list(apart), *parted(ignore)).run():
            if len(entries) == 2:
                passed(SkippedFile(*entries))
            else:
                yield self.scanned(*entries)

    def free(self, path: str = "") -> int:
        return shutil.disk_usage(self.followed.get(self.disk_of(path), self.root)).free

    def may_give(self, owner: Owner) -> bool:
        user = os.geteuid()
        return user == 0 or (owner.user == user and owner.group in (os.getegid(), *os.getgroups()))

    def owner(self, path: str) -> Owner:
        return Owner(*self.whose(path))


def status_of(info: os.stat_result) -> Status:
    return Status(*facts_of(info))
