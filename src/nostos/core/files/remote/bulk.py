"""Many files at once between machines: what is asked for goes ahead of what comes back, so that a slow line is full."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, suppress
from queue import Queue
from typing import Any

from nostos.core.errors import NostosError
from nostos.core.files.entry import FileEntry, above_it
from nostos.core.files.remote.readers import broken, leads_out, owner_data, owner_of, status_of
from nostos.core.files.tree import CopiedFile, FileTree, GivenFile, Status
from nostos.core.hosts.helper import Cancelled, Channel, WireError

Talk = AbstractContextManager[Channel]
_AT_ONCE = 64
_PIECE = 1 << 15  # bytes
_GROWN = 1 << 26  # bytes, at most, by which a file grows while it is read


def copied_there(talk: Talk, where: str, entries: Sequence[FileEntry]) -> Iterator[CopiedFile]:
    """Files of one tree to another of the same machine: nothing but names and digests travels."""
    with talk as channel, _sending(lambda: _listed(channel, entries)):
        for at in range(0, len(entries), _AT_ONCE):
            some = entries[at:at + _AT_ONCE]
            answer = channel.receive()
            if not isinstance(answer, list) or len(answer) != len(some):
                raise broken(where)
            yield from (_copied(entry, result, where) for entry, result in zip(some, answer, strict=True))
        channel.answer()


def _listed(channel: Channel, entries: Sequence[FileEntry]) -> None:
    for at in range(0, len(entries), _AT_ONCE):
        channel.send([[e.path, e.kind, e.mode, e.size] for e in entries[at:at + _AT_ONCE]])
    channel.send(None)


def _copied(entry: FileEntry, result: Any, where: str) -> CopiedFile:
    match result:
        case [int(number), str(text)]:
            return CopiedFile(entry, error=OSError(number, text, entry.path))
        case [bytes(digest), [int(modified), int(changed)], head, _]:
            return CopiedFile(entry, digest if entry.kind == "file" else entry.digest or b"", (modified, changed),
                              head if isinstance(head, bytes) else None)
    raise broken(where)


def given_out(talk: Talk, where: str, entries: Sequence[FileEntry]) -> Iterator[GivenFile]:
    """Files of another machine, one after the other, without a question for each. Each is to be read before the next
    is asked for."""
    def listed(channel: Channel) -> None:
        for at in range(0, len(entries), _AT_ONCE):
            channel.send([e.path for e in entries[at:at + _AT_ONCE]])
        channel.send(None)

    with talk as channel, _sending(lambda: listed(channel)):
        for entry in entries:
            match channel.receive():
                case [int(number), str(text)]:
                    yield GivenFile(entry, error=OSError(number, text, entry.path))
                case [list(facts), list(owner), str(led)]:
                    info = status_of(facts)
                    pieces = _pieces(channel, where, info.size) if info.is_file else iter(())
                    if led and leads_out(entry.path, led):
                        raise broken(where)  # no such link was listed
                    yield GivenFile(entry, info, owner_of(owner), led, pieces)
                    for _ in pieces:
                        pass
                case _:
                    raise broken(where)


def _pieces(channel: Channel, where: str, size: int) -> Iterator[bytes]:
    """What a file holds. size: what it was said to hold; it may have grown since, as logs do, but not without end."""
    left = size + _GROWN
    while (piece := channel.receive()) is not None:
        if not isinstance(piece, bytes) or (left := left - len(piece)) < 0:
            raise broken(where)
        yield piece


def taken_there(talk: Talk, where: str, source: FileTree, entries: Sequence[FileEntry],
                small: int) -> Iterator[CopiedFile]:
    """Files of any tree to another machine."""
    order: Queue[tuple[FileEntry, bytes | None, OSError | None] | BaseException | None] = Queue()

    def all_of_it(channel: Channel) -> None:
        try:
            for out in source.given_out(entries):
                if out.error is not None or out.info is None:
                    order.put((out.entry, None, out.error or FileNotFoundError(2, os.strerror(2))))
                else:
                    order.put((out.entry, _sent(channel, out, out.info, small), None))
            for folder in sorted({f for e in entries for f in above_it(e.path)}, reverse=True):
                info = source.status(folder)
                if info is not None:
                    channel.send([folder, "above", info.rights, owner_data(source.owner(folder)), [0, 0], ""])
                    order.put((FileEntry(folder, "above", 0, info.rights, (0, 0)), None, None))
            channel.send(None)
        except BaseException as error:
            order.put(error)
            raise
        order.put(None)

    with talk as channel, _sending(lambda: all_of_it(channel)):
        while (item := order.get()) is not None:
            if isinstance(item, Cancelled):
                break  # it failed there: the answer says why
            if isinstance(item, BaseException):
                raise item
            entry, head, error = item
            if error is not None:
                yield CopiedFile(entry, error=error)
                continue
            answer = channel.receive()
            if entry.kind != "above":
                yield _copied(entry, [*answer[:2], head, answer[2]] if len(answer) == 3 else answer, where)
        channel.answer()


def _sent(channel: Channel, out: GivenFile, info: Status, small: int) -> bytes | None:
    """Send a file. Returns its content, if it is a small one."""
    entry = out.entry
    channel.send([entry.path, entry.kind, entry.mode, owner_data(out.owner), [info.accessed, info.modified],
                  out.led])
    if entry.kind != "file":
        return None
    kept: list[bytes] = []
    for piece in out.pieces:
        for at in range(0, len(piece), _PIECE):
            channel.send(piece[at:at + _PIECE])
        if entry.size <= small:
            kept.append(piece)
    channel.send(None)
    head = b"".join(kept)
    return head if entry.size <= small and len(head) <= small else None


@contextmanager
def _sending(work: Callable[[], None]) -> Iterator[None]:
    """Do something meanwhile; what goes wrong with it is told by the other end of the conversation."""
    def run() -> None:
        with suppress(Cancelled, WireError, NostosError, OSError):
            work()

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    yield
    thread.join()
