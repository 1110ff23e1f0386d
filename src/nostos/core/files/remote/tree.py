"""A file tree on another machine. What is asked of it is done there; what comes back is looked at before it is used."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import Any

from nostos.core.errors import HostError
from nostos.core.files.entry import FileEntry, digest_of, summed
from nostos.core.files.remote.asking import AT_ONCE, FarAsking
from nostos.core.files.remote.bulk import copied_there, given_out, taken_there
from nostos.core.files.remote.readers import (
    broken,
    leads_out,
    owner_data,
    owner_of,
    status_of,
    understanding,
    understood,
)
from nostos.core.files.tree import (
    SMALL,
    CopiedFile,
    Copy,
    FileTree,
    GivenFile,
    OpenFile,
    Owner,
    SaidFile,
    SkippedFile,
    Status,
    checked,
)
from nostos.core.files.words import LARGEST
from nostos.core.hosts.helper import Cancelled, Channel
from nostos.core.patterns import parted

_PIECE = 1 << 15  # bytes of a file in one message
_MOST = 5_000_000  # files of a tree


class _FarFile:
    """An open file there, read ahead of whoever reads it."""

    def __init__(self, tree: FarTree, channel: Channel) -> None:
        self._channel = channel
        with tree.connection.explaining():
            self._status = status_of(channel.receive())
        self._tree = tree
        self._rest = b""
        self._over = False

    def status(self) -> Status:
        return self._status

    def read(self, most: int = -1, /) -> bytes:
        parts, left = [], most
        while left != 0:
            if not self._rest and not self._fill():
                break
            part = self._rest if left < 0 else self._rest[:left]
            self._rest = self._rest[len(part):]
            parts.append(part)
            left -= len(part) if left > 0 else 0
        return b"".join(parts)

    def _fill(self) -> bool:
        if self._over:
            return False
        try:
            with self._tree.connection.explaining():
                piece = self._channel.receive()
        except EOFError:
            self._over = True
            return False
        if not isinstance(piece, bytes):
            raise broken(self._tree.where)
        self._rest = piece
        return True


class FarTree(FarAsking):
    """A tree below a folder of another machine."""

    def _copies_plain(self, source: FileTree, copies: Sequence[Copy]) -> Iterator[bytes]:
        if not isinstance(source, FarTree) or source.host != self.host:
            yield from super()._copies_plain(source, copies)
            return
        self._ahead.clear()
        wanted = [[source._there(c.path), self._there(c.target), c.mode, owner_data(c.owner)] for c in copies]
        messages = self.connection.messages("copies", self._where(), source._where(), wanted)
        for copy, results in zip(copies, messages, strict=True):
            self._noted(copy.target, results[1])
            yield self._digest(results[0])

    def talk(self, what: str, *words: Any) -> Any:
        """A call about this tree, whose messages go on."""
        return self.connection.talk(what, self._where(), *words)

    def _noted(self, path: str, outcome: Any) -> None:
        if outcome is not True:
            self.not_given.append(path)

    # --- looking

    def read(self, path: str, most: int = -1) -> bytes:
        place = self._there(path)
        if ("content", place, SMALL) in self._ahead and not self.speaks(path):
            content = self._ask("content", place, SMALL)
            if isinstance(content, bytes) and (len(content) < SMALL or 0 <= most <= SMALL):
                return content if most < 0 else content[:most]
        return super().read(path, most)

    @understood
    def status(self, path: str) -> Status | None:
        facts = self._ask("status", self._there(path))
        return None if facts is None else status_of(facts)

    @understood
    def names(self, path: str) -> list[str]:
        names = self._ask("names", path)
        if not isinstance(names, list) or not all(
                isinstance(n, str) and n not in ("", ".", "..") and not {"/", "\0"} & {*n} for n in names):
            raise broken(self.where)
        above = f"{path}/" if path else ""
        return sorted(self.called.get(above + n, n).rpartition("/")[2] for n in names)

    @understood
    def link(self, path: str) -> str:
        return str(self._ask("link", self._there(path)))

    @understood
    def led(self, path: str) -> tuple[str, Status] | None:
        target = self._ask("led", path)
        return None if target is None else (str(target[0]), status_of(target[1]))

    @contextmanager
    def opened(self, path: str) -> Iterator[OpenFile]:
        with self.talk("read", self._there(path)) as channel:
            file = _FarFile(self, channel)
            if self.words is not None and self.speaks(path) and file.status().size <= LARGEST:
                yield SaidFile(self.words.live(self.meant.get(path, path), file.read()), file.status())
            else:
                yield file

    @understood
    def digest(self, path: str) -> bytes:
        if self.speaks(path):
            return super().digest(path)
        return self._digest(self._ask("digest", self._there(path)))

    def _digest(self, digest: Any) -> bytes:
        if not isinstance(digest, bytes) or len(digest) != 16:
            raise broken(self.where)
        return digest

    @understood
    def digests(self, paths: Sequence[str]) -> dict[str, bytes]:
        known = [p for p in paths if self.speaks(p)]
        digests = {p: digest for p, digest in zip(known, self._digests_said(known), strict=True) if digest is not None}
        rest = [p for p in paths if not self.speaks(p)]
        for at in range(0, len(rest), AT_ONCE):
            some = rest[at:at + AT_ONCE]
            messages = self.connection.messages("digests", self._where(), [self._there(p) for p in some])
            message_digests = [d for message in messages for d in message]
            if len(message_digests) != len(some):
                raise broken(self.where)
            digests |= {p: self._digest(d) for p, d in zip(some, message_digests, strict=True) if d is not None}
        return digests

    def _digests_said(self, paths: Sequence[str]) -> Iterator[bytes | None]:
        """Of files in this site's words, as they are in live's; None of what is not there."""
        for path, out in zip(paths, self._streamed(paths), strict=True):
            if out.info is not None and out.info.is_file:
                small = out.info.size <= LARGEST
                yield digest_of(self._in_live_words(path, out)) if small else summed(out.pieces)
            elif out.error is None or isinstance(out.error, FileNotFoundError):
                yield None
            else:
                raise out.error

    def contents(self, paths: Sequence[str]) -> Iterator[tuple[bytes, Status]]:
        for path, pieces in zip(paths, self._streamed(paths), strict=True):
            if pieces.error is not None or pieces.info is None:
                raise pieces.error or broken(self.where)
            yield self._in_live_words(path, pieces), pieces.info

    def _streamed(self, paths: Sequence[str]) -> Iterator[GivenFile]:
        return self.given_out([FileEntry(self._there(p), "file", 0, 0, (0, 0)) for p in paths]) if paths else iter(())

    def _in_live_words(self, path: str, wanted: GivenFile) -> bytes:
        content = b"".join(wanted.pieces)
        if self.words is None or not self.speaks(path):
            return content
        return self.words.live(self.meant.get(path, path), content)

    @understood
    def entry(self, path: str, digest: bool = False) -> FileEntry | None:
        if digest and self.speaks(path):
            return super().entry(path, digest)
        facts = self._ask("entry", self._there(path), digest)
        if facts is None:
            return None
        info = status_of(facts[0])
        stamp = (info.modified, info.changed) if facts[3] is True else (0, 0)
        if info.is_folder:
            return FileEntry(path, "folder", 0, info.rights, (0, 0), digest_of(b""))
        if info.is_link:
            return FileEntry(path, "link", 0, 0o777, stamp, digest_of(str(facts[1]).encode("utf-8", "surrogateescape")))
        return FileEntry(path, "file", info.size, info.rights, stamp,
                         None if facts[2] is None else self._digest(facts[2]))

    def scan(self, apart: Iterable[str], ignore: Iterable[str], passed: Callable[[SkippedFile], None] = lambda _: None
             ) -> Iterator[FileEntry]:
        if not self.has_files:
            return
        count = 0
        for some in self.connection.messages("scan", self._where(), sorted(set(apart)), *parted(ignore)):
            with understanding(self.where):
                count += len(some)
                believed = [self._believed(facts) for facts in some]
            if count > _MOST:
                raise HostError(f"{self.where} has more than {_MOST:,} files.", next_step="Leave folders out: --skip.")
            for one in believed:
                if isinstance(one, SkippedFile):
                    passed(one)
                else:
                    yield one

    def _believed(self, facts: Any) -> FileEntry | SkippedFile:
        if len(facts) == 2:
            return SkippedFile(str(facts[0]), str(facts[1]))
        if facts[1:2] == ["link"] and leads_out(str(facts[0]), str(facts[-1])):
            return SkippedFile(str(facts[0]), f"is a link out of the tree, to {facts[-1]}")
        path, kind, size, rights, modified, changed, led = facts
        if kind not in ("file", "link", "folder") or not all(
                isinstance(n, int) for n in (size, rights, modified, changed)):
            raise broken(self.where)
        return self.scanned("/".join(checked(str(path))), kind, size, rights, modified, changed,
                            None if led is None else str(led))

    @understood
    def free(self, path: str = "") -> int:
        return int(self._ask("free", self.disk_of(path)))

    def may_write(self, path: str) -> bool:
        return self._ask("may_write", path) is True

    def may_give(self, owner: Owner) -> bool:
        about = self.connection.about
        return about.user == 0 or (owner.user == about.user and owner.group in (about.group, *about.groups))

    @understood
    def owner(self, path: str) -> Owner:
        return owner_of(self._ask("owner", self._there(path)))

    # --- writing

    def make_root(self) -> None:
        self._ask("make_root")

    def give(self, path: str, owner: Owner, mode: int | None = None) -> None:
        self._noted(path, self._ask("give", self._there(path), owner_data(owner), mode))

    def make_folder(self, path: str, mode: int, owner: Owner | None = None) -> None:
        self._noted(path, self._ask("make_folder", self._there(path), mode, owner_data(owner)))

    def write(self, path: str, content: bytes, mode: int, owner: Owner | None = None, like: Status | None = None
              ) -> None:
        if self.words is not None and self.speaks(path):
            content = self.words.own(self.meant.get(path, path), content)
        self._pour(path, (content[at:at + _PIECE] for at in range(0, len(content), _PIECE)), mode, owner,
                   None if like is None else [like.accessed, like.modified])

    def _pour(self, path: str, pieces: Iterable[bytes], mode: int, owner: Owner | None,
              times: list[int] | None) -> bytes:
        """Write a new file there out of pieces. Returns its digest."""
        with self.talk("write", self._there(path), mode, owner_data(owner), times) as channel:
            with suppress(Cancelled):  # it failed there: the answer says why
                for piece in pieces:
                    channel.send(piece)
                channel.send(None)
            answer = channel.answer()
        self._noted(path, answer[1])
        return self._digest(answer[0])

    def copy_in(self, source: FileTree, path: str, target: str, mode: int, owner: Owner | None = None) -> bytes:
        spoken = self.copy_spoken(source, path, target, mode, owner)
        if spoken is not None:
            return spoken
        if isinstance(source, FarTree) and source.host == self.host:
            answer = self.connection.ask("copy", self._where(), source._where(), source._there(path),
                                        self._there(target), mode, owner_data(owner))
            self._noted(target, answer[1])
            return self._digest(answer[0])
        with source.opened(path) as file:
            seen = file.status()
            return self._pour(target, iter(lambda: file.read(_PIECE), b""), mode, owner,
                              [seen.accessed, seen.modified])

    def copy_all(self, source: FileTree, entries: Sequence[FileEntry], small: int) -> Iterator[CopiedFile]:
        if isinstance(source, FarTree) and source.host == self.host:
            return copied_there(self.talk("copy_all", source._where(), small), self.where, entries)
        return taken_there(self.talk("take_all"), self.where, source, entries, small)

    def given_out(self, entries: Sequence[FileEntry]) -> Iterator[GivenFile]:
        return given_out(self.talk("give_all"), self.where, entries)

    def make_link(self, path: str, to: str, owner: Owner | None = None) -> None:
        self._noted(path, self._ask("make_link", self._there(path), to, owner_data(owner)))

    def again(self, path: str, target: str) -> None:
        self._noted(target, self._ask("again", self._there(path), self._there(target)))

    def move(self, path: str, target: str) -> None:
        self._ask("move", self._there(path), self._there(target))

    def move_new(self, path: str, target: str) -> None:
        self._ask("move_new", self._there(path), self._there(target))

    def exchange(self, one: str, other: str) -> bool:
        return self._ask("exchange", self._there(one), self._there(other)) is True

    def times(self, path: str, info: Status) -> None:
        self._ask("times", self._there(path), info.accessed, info.modified)

    def remove(self, path: str) -> None:
        self._ask("remove", self._there(path))

    def remove_empty(self, path: str) -> bool:
        return self._ask("remove_empty", self._there(path)) is True

    def sync(self, path: str) -> None:
        self._ask("sync", path)

    @contextmanager
    def lock(self, seconds: float) -> Iterator[None]:
        connection = self.connection
        with connection.talk("lock", str(self.root.path), seconds) as channel:
            if channel.receive() is not True:
                raise HostError(f"{self.host} did not lock {self.root.path}.", next_step="Try again.")
            connection.locks += 1
            try:
                yield
            finally:
                connection.locks -= 1
                if not connection.lost:
                    channel.no_more()
                    channel.answer()

