"""The file itself: a compressed archive written and read in one pass, digests on the way, nothing believed.

Whoever reads it is told of every member in turn; at the end all digests have been compared, or an error was raised.
"""

from __future__ import annotations

import hashlib
import io
import os
import posixpath
import tarfile
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import IO, Any, Protocol, cast

import msgspec
import zstandard

from nostos.core.backup.layout import FORMAT, SUMS, TAIL_MAGIC, TAIL_SIZE, VERSION, BackupError, Tail, damaged
from nostos.core.errors import SiteError
from nostos.core.files.entry import above_it
from nostos.core.files.tree import CHUNK
from nostos.core.records import dataclass

_WINDOW = 1 << 27  # bytes that a frame may make its reader hold
_LARGEST_HEADER = 1 << 16
_THREADS = min(4, os.cpu_count() or 1)


@dataclass(frozen=True)
class Member:
    """One entry of the archive. kind: "file", "link" or "folder". mtime: seconds. target: of a link."""

    name: str
    kind: str
    size: int
    mode: int
    mtime: float
    target: str = ""


class Readable(Protocol):
    """Whatever gives bytes."""

    def read(self, most: int, /) -> bytes: ...


class _CountedStream(io.RawIOBase):
    """What goes through it is counted."""

    def __init__(self, below: Any) -> None:
        self.below = below
        self.bytes = 0

    def write(self, data: Any) -> int:
        self.bytes += len(data)
        self.below.write(data)
        return len(data)


class ArchiveWriter:
    """Writes a backup beside its place; `finish` puts it there. Used as a context: left otherwise, nothing is left."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.draft = path.with_name(path.name + ".part")
        try:
            self.draft.unlink(missing_ok=True)
            descriptor = os.open(self.draft, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
        except OSError as error:
            raise SiteError(f"{self.draft} cannot be written: {error.strerror}.",
                            next_step="Name another place with --to, or ask for the right.") from error
        self._file = os.fdopen(descriptor, "wb")
        packed = zstandard.ZstdCompressor(level=3, write_checksum=True, threads=_THREADS)
        self._packer = packed.stream_writer(self._file, closefd=False)
        self._counted = _CountedStream(self._packer)
        self._sums: dict[str, str] = {}
        self._members = 0

    def __enter__(self) -> ArchiveWriter:
        return self

    def __exit__(self, *_: object) -> None:
        if not self._file.closed:
            with suppress(OSError):
                self._file.close()
        with suppress(OSError):
            self.draft.unlink(missing_ok=True)

    @property
    def content(self) -> int:
        """How many have been written, before compression."""
        return self._counted.bytes

    def add(self, name: str, content: bytes, mode: int = 0o600, mtime: float = 0) -> None:
        """Add a file with this content."""
        self.add_stream(name, io.BytesIO(content), len(content), mode, mtime)

    def add_stream(self, name: str, source: Readable, size: int, mode: int, mtime: float) -> None:
        """Add a file of exactly this size; what a source lacks is made up with zeros."""
        self._header(name, tarfile.REGTYPE, size, mode, mtime)
        digest = hashlib.sha256()
        self._body(source, size, digest.update)
        self._sums[name] = digest.hexdigest()

    def add_link(self, name: str, target: str) -> None:
        self._header(name, tarfile.SYMTYPE, 0, 0o777, 0, target)

    def add_folder(self, name: str, mode: int) -> None:
        self._header(name, tarfile.DIRTYPE, 0, mode, 0)

    def _header(self, name: str, kind: bytes, size: int, mode: int, mtime: float, target: str = "") -> None:
        info = tarfile.TarInfo(name)
        info.type, info.size, info.mode, info.mtime, info.linkname = kind, size, mode, mtime, target
        self._counted.write(info.tobuf(tarfile.PAX_FORMAT, "utf-8", "surrogateescape"))
        self._members += 1

    def _body(self, source: Readable, size: int, digest: Callable[[bytes], object]) -> None:
        left = size
        while left:
            chunk = source.read(min(left, CHUNK)) or b"\0" * min(left, CHUNK)
            digest(chunk)
            self._counted.write(chunk)
            left -= len(chunk)
        self._counted.write(b"\0" * (-size % tarfile.BLOCKSIZE))

    def finish(self) -> int:
        """Add the digests, close the file and put it in its place. Returns its size."""
        lines = []
        for name, digest in self._sums.items():
            odd = "\\" in name or "\n" in name  # as sha256sum writes such names
            plain = name.replace("\\", "\\\\").replace("\n", "\\n")
            lines.append(("\\" if odd else "").encode() + f"{digest}  {plain}\n".encode("utf-8", "surrogateescape"))
        sums = b"".join(lines)
        self.add(SUMS, sums)
        self._counted.write(b"\0" * 2 * tarfile.BLOCKSIZE)
        self._counted.write(b"\0" * (-self._counted.bytes % tarfile.RECORDSIZE))
        self._packer.close()  # type: ignore[no-untyped-call]
        self._file.write(Tail(FORMAT, VERSION, self._members, self._counted.bytes,
                              hashlib.sha256(sums).hexdigest()).written())
        self._file.flush()
        os.fsync(self._file.fileno())
        size = self._file.tell()
        self._file.close()
        try:
            os.link(self.draft, self.path)  # refuses where something has come to lie there meanwhile
            self.draft.unlink()
        except FileExistsError:
            raise
        except OSError:  # a filesystem that knows no links
            self.draft.rename(self.path)
        return size


class _Part(io.RawIOBase):
    """The first so many bytes of a file."""

    def __init__(self, file: IO[bytes], size: int) -> None:
        self.file = file
        self.left = size

    def readable(self) -> bool:
        return True

    def read(self, size: int = -1) -> bytes:
        data = self.file.read(self.left if size < 0 else min(size, self.left))
        self.left -= len(data)
        return data

    def readinto(self, buffer: Any) -> int:
        data = self.read(len(buffer))
        buffer[:len(data)] = data
        return len(data)


class _Archive(io.RawIOBase):
    """The unpacked archive, never more of it than was said there would be."""

    def __init__(self, part: _Part, expected: int) -> None:
        self.reader = zstandard.ZstdDecompressor(max_window_size=_WINDOW).stream_reader(cast(IO[bytes], part))
        self.expected = expected
        self.bytes = 0

    def read(self, size: int = -1) -> bytes:
        try:
            data = self.reader.read(min(size, CHUNK) if size >= 0 else CHUNK)
        except zstandard.ZstdError as error:
            raise damaged("it cannot be unpacked") from error
        self.bytes += len(data)
        if self.bytes > self.expected:
            raise damaged("there is more in it than it says")
        return data


class _Checked(tarfile.TarInfo):
    """An entry whose own headers are of a sane size: they are held in memory."""

    def _proc_member(self, tar: tarfile.TarFile) -> Any:
        if self.type not in (tarfile.REGTYPE, tarfile.AREGTYPE, tarfile.SYMTYPE, tarfile.DIRTYPE) and (
                self.type != tarfile.XHDTYPE or not 0 <= self.size <= _LARGEST_HEADER):
            raise damaged("it holds an entry that is neither a file, a folder nor a link")
        return super()._proc_member(tar)  # type: ignore[misc]


class ArchiveReader:
    """A backup that is there. `tail` says how much it holds; `walk` reads it, as often as it is asked to."""

    def __init__(self, path: Path) -> None:
        try:
            self._file = path.open("rb")
        except OSError as error:
            raise BackupError(f"The backup {path} cannot be read: {error.strerror}.",
                              next_step="Check the name, and your rights to the file.") from error
        self.path = path
        self.size = os.fstat(self._file.fileno()).st_size
        try:
            self.tail = self._read_tail()
        except BaseException:
            self._file.close()
            raise

    def close(self) -> None:
        """Close the file."""
        self._file.close()

    def _read_tail(self) -> Tail:
        if self.size > TAIL_SIZE:
            self._file.seek(self.size - TAIL_SIZE)
            raw = self._file.read(TAIL_SIZE)
            if raw[:4] == TAIL_MAGIC and int.from_bytes(raw[4:8], "little") == TAIL_SIZE - 8:
                with suppress(msgspec.DecodeError, msgspec.ValidationError):
                    tail = msgspec.json.decode(raw[8:].rstrip(b" "), type=Tail)
                    if tail.format == FORMAT and tail.version == VERSION and tail.content >= 0:
                        return tail
                    if tail.format == FORMAT and tail.version > VERSION:
                        raise BackupError(f"The backup {self.path.name} was made by a newer Nostos.",
                                          next_step="Restore it with that one.")
        raise BackupError(f"{self.path.name} is not a backup, or its end is missing.",
                          next_step="If it was copied, copy it again and compare the sizes.")

    def walk(self) -> Iterator[tuple[Member, Body]]:
        """Every member with what is in it, which may be read or not. Raises BackupError as soon as something is not as
        it must be: a digest, a size, a name, a kind."""
        self._file.seek(0)
        part = _Part(self._file, self.size - TAIL_SIZE)
        archive = _Archive(part, self.tail.content)
        seen: dict[str, str] = {}
        digests: dict[str, str] = {}
        sums, listed = b"", _SUM_LINE  # bytes that the list of what came before it can have
        try:
            with tarfile.open(fileobj=cast(IO[bytes], archive), mode="r|", tarinfo=_Checked, encoding="utf-8",
                              errors="surrogateescape") as tar:
                count = 0
                for info in tar:
                    tar.members = []  # type: ignore[attr-defined]  # it would remember every one of them
                    count += 1
                    member = _member(info, seen)
                    body = Body(tar.extractfile(info), member.size) if member.kind == "file" else Body(None, 0)
                    if member.name == SUMS:
                        sums = body.read_all(listed)
                    else:
                        yield member, body
                        body.drain()
                        if member.kind == "file":
                            digests[member.name] = body.digest.hexdigest()
                            listed += _SUM_LINE + 2 * len(member.name.encode("utf-8", "surrogateescape"))
                while archive.read(CHUNK):
                    pass
        except BackupError:
            raise
        except (tarfile.TarError, ValueError, EOFError, OverflowError, IndexError,
                RecursionError) as error:
            raise damaged("it cannot be unpacked") from error
        if (archive.bytes, count, hashlib.sha256(sums).hexdigest()) != (self.tail.content, self.tail.members,
                                                                       self.tail.sums) or part.left:
            raise damaged("something of it is missing")
        if _read_sums(sums) != digests:
            raise damaged("the digests in it are not those of its content")


class Body(io.RawIOBase):
    """What is in a member, digested as it is read."""

    def __init__(self, source: Any, size: int) -> None:
        self._source = source
        self._left = size
        self.digest = hashlib.sha256()

    def readable(self) -> bool:
        return True

    def read(self, size: int = -1) -> bytes:
        if not self._left:
            return b""
        data = b""
        with suppress(tarfile.TarError):
            data = cast(bytes, self._source.read(min(self._left, CHUNK if size < 0 else size)))
        if not data:
            raise damaged("a file in it is cut short")
        self._left -= len(data)
        self.digest.update(data)
        return data

    def read_all(self, limit: int) -> bytes:
        """All of it, if it is not larger than this."""
        if self._left > limit:
            raise damaged("a part of it is too large")
        pieces = []
        while piece := self.read(CHUNK):
            pieces.append(piece)
        return b"".join(pieces)

    def drain(self) -> None:
        while self.read(CHUNK):
            pass


def _member(info: tarfile.TarInfo, seen: dict[str, str]) -> Member:
    name = info.name
    kind = {tarfile.REGTYPE: "file", tarfile.AREGTYPE: "file", tarfile.SYMTYPE: "link", tarfile.DIRTYPE: "folder"}.get(
        info.type)
    if kind is None or info.issparse() or info.size < 0:
        raise damaged("it holds an entry that is neither a file, a folder nor a link")
    parts = name.split("/")
    if not name or "\0" in name or any(p in ("", ".", "..") for p in parts):
        raise damaged("a path in it leaves its folder")
    if seen.get(name, kind) != kind or (name in seen and kind != "file"):
        raise damaged("a name stands twice in it")
    if any(seen.get(above, "folder") != "folder" for above in above_it(name)):
        raise damaged("a path in it leads through a link or a file")
    seen[name] = kind
    if kind == "link":
        target = info.linkname
        reached = posixpath.normpath(posixpath.join(posixpath.dirname(name), target))
        if not target or target.startswith("/") or "\0" in target or reached.split("/")[0] != parts[0]:
            raise damaged("a link in it leads out of its folder")
    mtime = info.mtime if isinstance(info.mtime, int | float) and 0 <= info.mtime < 1 << 40 else 0
    return Member(name, kind, info.size if kind == "file" else 0, info.mode & 0o1777, mtime, info.linkname)


_SUM_LINE = 128  # bytes of a line of digests, without the name


def _read_sums(sums: bytes) -> dict[str, str]:
    digests = {}
    for line in sums.decode("utf-8", "surrogateescape").split("\n")[:-1]:
        odd = line.startswith("\\")
        digest, _, name = line[odd:].partition("  ")
        if odd:
            name = name.replace("\\\\", "\0").replace("\\n", "\n").replace("\0", "\\")
        digests[name] = digest
    return digests
