"""Paths of another machine, as far as they are needed like those of this one."""

from __future__ import annotations

import errno
import os
import re
import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path, PurePath, PurePosixPath
from typing import Any

from nostos.core.errors import HostError
from nostos.core.expressions import expression
from nostos.core.hosts.connection import reach
from nostos.core.records import dataclass

_WRITTEN = expression(r"(?P<host>(?:[A-Za-z0-9_][\w.+-]*@)?(?:[A-Za-z0-9_][\w.-]*|\[[0-9A-Fa-f:.%]+\])):(?P<path>.*)",
                      re.DOTALL)
_READ = 1 << 24  # bytes, at most, of a file that is read as a whole


class _Foreseen(threading.local):
    """What is known of paths for a moment, fetched at once: where they are, what is there, what small files hold."""

    def __init__(self) -> None:
        self.known: dict[FarPath, list[Any] | None] = {}


_foreseen = _Foreseen()
_SMALL = 1 << 16  # bytes


@contextmanager
def foreseen(folder: AnyPath, names: Sequence[str]) -> Iterator[None]:
    """Paths that will be looked at in a block, as they begin at a folder: fetched at once."""
    if not isinstance(folder, FarPath):
        yield
        return
    answers = reach(folder.host).ask("foresee", str(folder.path), list(names), _SMALL)
    paths = [FarPath(folder.host, PurePosixPath(os.path.normpath(folder.path / n))) for n in names]
    _foreseen.known = {p: answer for p, answer in zip(paths, answers, strict=True)
                       if isinstance(answer, list) and len(answer) == 3}
    try:
        yield
    finally:
        _foreseen.known = {}


@dataclass(frozen=True)
class FarStat:
    """What is needed of a file's status, under the names that it has for a file of this machine."""

    st_mode: int
    st_size: int
    st_uid: int
    st_gid: int


@dataclass(frozen=True)
class FarPath:
    """An absolute path of another machine. host: as ssh is given it."""

    host: str
    path: PurePosixPath

    def __str__(self) -> str:
        return f"{self.host}:{self.path}"

    def __truediv__(self, other: str | PurePath) -> FarPath:
        return FarPath(self.host, self.path / other)

    @property
    def name(self) -> str:
        return self.path.name

    @property
    def parent(self) -> FarPath:
        return FarPath(self.host, self.path.parent)

    def is_absolute(self) -> bool:
        return True

    def is_relative_to(self, other: AnyPath) -> bool:
        return isinstance(other, FarPath) and other.host == self.host and self.path.is_relative_to(other.path)

    def relative_to(self, other: AnyPath) -> PurePosixPath:
        """Raises ValueError where it does not lie below the other."""
        if not self.is_relative_to(other):
            raise ValueError(f"{self} is not below {other}")
        assert isinstance(other, FarPath)
        return self.path.relative_to(other.path)

    def resolve(self) -> FarPath:
        known = _foreseen.known.get(self)
        if known is not None:
            return FarPath(self.host, PurePosixPath(str(known[0])))
        return FarPath(self.host, PurePosixPath(str(reach(self.host).ask("real", str(self.path)))))

    def _look(self) -> list[int | str] | None:
        """What is there, or where it leads: kind, rights, size, inode, times, user, group."""
        known = _foreseen.known.get(self)
        facts = known[1] if known is not None else reach(self.host).ask("look", str(self.path))
        return facts if isinstance(facts, list) and len(facts) == 9 else None

    def stat(self) -> FarStat:
        """What is there, or where it leads. Raises FileNotFoundError."""
        facts = self._look()
        if facts is None:
            raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), str(self))
        return FarStat(int(facts[1]), int(facts[2]), int(facts[6]), int(facts[7]))

    def exists(self) -> bool:
        return self._look() is not None

    def is_file(self) -> bool:
        facts = self._look()
        return facts is not None and facts[0] == "file"

    def is_dir(self) -> bool:
        facts = self._look()
        return facts is not None and facts[0] == "folder"

    def read_bytes(self, most: int = _READ) -> bytes:
        known = _foreseen.known.get(self)
        if known is not None and isinstance(known[2], bytes):
            return known[2][:most]
        content = reach(self.host).ask("content", str(self.path), most)
        if not isinstance(content, bytes) or len(content) > most:
            raise HostError(f"{self.host} gave something else than a file.")
        return content


AnyPath = Path | FarPath


def host_form(text: str) -> tuple[str, str] | None:
    """The host and the rest of what is written like `user@host:rest`; None for anything else."""
    match = _WRITTEN.fullmatch(text)
    return None if match is None else (match["host"], match["path"])


def written(text: str) -> AnyPath:
    """The path that a user wrote: `user@host:/path` is one of another machine, if there is none of that name here."""
    form = host_form(text)
    if form is None or Path(text).exists():
        return Path(text).expanduser()
    host, path = form
    path = path.removeprefix("~/")
    if not path.startswith("/"):
        path = f"{reach(host).about.home}/{path}"
    return FarPath(host, PurePosixPath(path))


def below(path: AnyPath, folder: AnyPath) -> PurePath | None:
    """A path as one that begins at a folder; None where it does not lie in it."""
    if isinstance(path, FarPath):
        return path.relative_to(folder) if path.is_relative_to(folder) else None
    return path.relative_to(folder) if isinstance(folder, Path) and path.is_relative_to(folder) else None


def named(folder: AnyPath, text: str) -> AnyPath:
    """A path that a file in a folder names: below it, an absolute one of its machine, or one of another machine."""
    return written(text) if host_form(text) is not None else folder / text


def on_machine(path: AnyPath) -> str:
    """A path as its own machine writes it."""
    return str(path.path) if isinstance(path, FarPath) else str(path)


def host_of(path: AnyPath) -> str:
    """The host of a path; empty for this machine."""
    return path.host if isinstance(path, FarPath) else ""


def on_host(host: str, path: str) -> AnyPath:
    """A path of a host; of this machine, where the host is empty."""
    return FarPath(host, PurePosixPath(path)) if host else Path(path)
