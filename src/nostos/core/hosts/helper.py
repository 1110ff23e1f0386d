"""The helper: this one file is sent over ssh to another machine and answers there for a site's files, its SQLite
database and connections to its database server. It needs Python 3.6 and nothing else, installs nothing, and ends when
the connection does. The near side imports it too: both speak through the same `Wire`.

What travels are frames: channel (4 bytes), kind (1), length (4, big-endian), content. A call opens a channel; both
sides may send messages on it, packed as MessagePack, until the answer, or an error, ends it. Neither side sends more
than `WINDOW` bytes on a channel that the other has not taken yet, so that one channel never holds up another.
"""

import ctypes
import errno
import fcntl
import fnmatch
import hashlib
import os
import queue
import re
import shutil
import signal
import socket
import sqlite3
import stat
import struct
import subprocess
import sys
import tempfile
import threading
import time
import zlib
from contextlib import closing, contextmanager
from typing import Any, BinaryIO, Callable, Dict, Iterable, Iterator, List, Mapping, Optional, Sequence, Set, Tuple
from urllib.parse import quote as url_quote
from urllib.parse import unquote

GREETING = b"nostos-helper-1 ready\n"
CALL, PART, MESSAGE, RESULT, ERROR, TAKEN, END, CANCEL, PING = range(1, 10)
SQUEEZED = 0x80  # in a frame's kind: its content was made smaller by zlib
WINDOW = 1 << 20  # bytes
FRAME = 1 << 16  # bytes, at most, of a frame
LARGEST = 1 << 28  # bytes, at most, of a message
CHANNELS = 512  # open at once, at most
MOST = 1 << 20  # values, at most, in one message
SILENCE = 24.0  # seconds after which a side that says nothing counts as gone
_HEAD = struct.Struct(">IBI")
_DEEPEST = 32
_WORTH, _PASSED = 512, 16  # bytes that are worth making smaller; frames that are not tried after one that was not
_RAW_TEXT = 1  # MessagePack extension: text whose bytes are not valid UTF-8
OWN = ".nostos-"  # what Nostos itself lays down begins so
STAMP = OWN + "voyage"  # by which a staging copy's folder is known


class WireError(Exception):
    """The other side is gone, or says what cannot be understood."""


class Failed(Exception):
    """What was asked for could not be done. reason: a word for programs; details: more of it."""

    def __init__(self, reason: str, *details: Any) -> None:
        super().__init__(reason, *details)
        self.reason = reason
        self.details = details


class Cancelled(Exception):
    """The other side does not want the rest of an answer."""


# --- values


def pack(value: Any) -> bytes:
    """A value as MessagePack: None, truth values, numbers, text, bytes, lists of these."""
    parts: List[bytes] = []
    _pack(value, parts)
    return b"".join(parts)


def _pack(value: Any, parts: List[bytes]) -> None:
    if value is None:
        parts.append(b"\xc0")
    elif value is True or value is False:
        parts.append(b"\xc3" if value else b"\xc2")
    elif isinstance(value, int):
        parts.append(_packed_number(value))
    elif isinstance(value, float):
        parts.append(struct.pack(">Bd", 0xcb, value))
    elif isinstance(value, str):
        try:
            data = value.encode("utf-8")
        except UnicodeEncodeError:
            data = value.encode("utf-8", "surrogateescape")
            parts += [_extension(len(data)), data]
            return
        parts += [_sized(len(data), 0xa0, 31, 0xd9, 0xda, 0xdb), data]
    elif isinstance(value, (bytes, bytearray, memoryview)):
        parts += [_sized(len(value), 0, -1, 0xc4, 0xc5, 0xc6), bytes(value)]
    elif isinstance(value, (list, tuple)):
        parts.append(_sized(len(value), 0x90, 15, None, 0xdc, 0xdd))
        for each in value:
            _pack(each, parts)
    else:
        raise TypeError(type(value).__name__)


def _sized(size: int, tiny: int, most: int, one: Optional[int], two: int, four: int) -> bytes:
    if size <= most:
        return bytes((tiny | size,))
    if one is not None and size < 1 << 8:
        return bytes((one, size))
    return struct.pack(">BH", two, size) if size < 1 << 16 else struct.pack(">BI", four, size)


def _extension(size: int) -> bytes:
    if size in (1, 2, 4, 8, 16):
        return bytes((0xd4 + (1, 2, 4, 8, 16).index(size), _RAW_TEXT))
    if size < 1 << 8:
        return bytes((0xc7, size, _RAW_TEXT))
    if size < 1 << 16:
        return struct.pack(">BHB", 0xc8, size, _RAW_TEXT)
    return struct.pack(">BIB", 0xc9, size, _RAW_TEXT)


def _packed_number(value: int) -> bytes:
    if 0 <= value < 128:
        return bytes((value,))
    if -32 <= value < 0:
        return struct.pack(">b", value)
    if value > 0:
        for most, tag, form in ((1 << 8, 0xcc, ">BB"), (1 << 16, 0xcd, ">BH"), (1 << 32, 0xce, ">BI"),
                                (1 << 64, 0xcf, ">BQ")):
            if value < most:
                return struct.pack(form, tag, value)
    for most, tag, form in ((1 << 7, 0xd0, ">Bb"), (1 << 15, 0xd1, ">Bh"), (1 << 31, 0xd2, ">Bi"),
                            (1 << 63, 0xd3, ">Bq")):
        if -most <= value:
            return struct.pack(form, tag, value)
    return pack(str(value))


_FIXED = {0xca: ">f", 0xcb: ">d", 0xcc: ">B", 0xcd: ">H", 0xce: ">I", 0xcf: ">Q", 0xd0: ">b", 0xd1: ">h", 0xd2: ">i",
          0xd3: ">q"}
_LENGTHS = {0xc4: ">B", 0xc5: ">H", 0xc6: ">I", 0xd9: ">B", 0xda: ">H", 0xdb: ">I", 0xdc: ">H", 0xdd: ">I",
            0xc7: ">B", 0xc8: ">H", 0xc9: ">I"}


class _Unpacker:
    def __init__(self, data: bytes) -> None:
        self.data = data
        self.at = 0
        self.left = MOST

    def take(self, size: int) -> bytes:
        data = self.data[self.at:self.at + size]
        if len(data) < size:
            raise WireError("a value is cut short")
        self.at += size
        return data

    def number(self, form: str) -> Any:
        return struct.unpack(form, self.take(struct.calcsize(form)))[0]

    def value(self, depth: int = 0) -> Any:
        if depth > _DEEPEST:
            raise WireError("a value is nested too deeply")
        tag = self.take(1)[0]
        if tag < 0x80:
            return tag
        if tag >= 0xe0:
            return tag - 256
        if tag & 0xf0 == 0x90:
            return self.several(tag & 15, depth)
        if tag & 0xe0 == 0xa0:
            return self.text(tag & 31)
        if tag in (0xc0, 0xc2, 0xc3):
            return {0xc0: None, 0xc2: False, 0xc3: True}[tag]
        if tag in _FIXED:
            return self.number(_FIXED[tag])
        if 0xd4 <= tag <= 0xd8:
            return self.raw((1, 2, 4, 8, 16)[tag - 0xd4])
        if tag not in _LENGTHS:
            raise WireError("a value of an unknown kind")
        size = self.number(_LENGTHS[tag])
        if tag in (0xc4, 0xc5, 0xc6):
            return self.take(size)
        if tag in (0xc7, 0xc8, 0xc9):
            return self.raw(size)
        return self.several(size, depth) if tag in (0xdc, 0xdd) else self.text(size)

    def several(self, count: int, depth: int) -> List[Any]:
        self.left -= count
        if count > len(self.data) - self.at:
            raise WireError("a list is cut short")
        if self.left < 0:
            raise WireError("a message holds too many values")
        return [self.value(depth + 1) for _ in range(count)]

    def text(self, size: int) -> str:
        try:
            return self.take(size).decode("utf-8")
        except UnicodeDecodeError:
            raise WireError("a text is not UTF-8") from None

    def raw(self, size: int) -> str:
        if self.take(1)[0] != _RAW_TEXT:
            raise WireError("a value of an unknown kind")
        return self.take(size).decode("utf-8", "surrogateescape")


def unpack(data: bytes) -> Any:
    """What `pack` packed. Raises WireError for anything else."""
    reader = _Unpacker(data)
    value = reader.value()
    if reader.at != len(data):
        raise WireError("there is more than one value")
    return value


# --- the wire


def _whole(data: bytes) -> bytes:
    """What a frame holds that was made smaller."""
    reader = zlib.decompressobj()
    try:
        unpacked = reader.decompress(data, FRAME)
    except zlib.error:
        raise WireError("a frame cannot be read") from None
    if not reader.eof or reader.unused_data:
        raise WireError("a frame cannot be read")
    return unpacked


class Channel:
    """A conversation about one call. `receive` gives messages, until `EOFError`; `answer` waits for the result."""

    def __init__(self, wire: "Wire", number: int) -> None:
        self.wire = wire
        self.number = number
        self.came: queue.Queue[Tuple[int, bytes]] = queue.Queue()
        self.waiting = 0  # bytes that came and were not taken
        self.may_send = WINDOW
        self.turn = threading.Condition()
        self.cancelled = False
        self.ended = False
        self.passing = 0  # frames that are sent as they are
        self.patience: Optional[float] = None  # seconds that what comes next is waited for; None: as long as it takes

    def send(self, value: Any) -> None:
        """Send a message. Raises Cancelled when the other side does not want it any more."""
        self._send(MESSAGE, self.wire.pack(value))

    def _send(self, kind: int, data: bytes) -> None:
        view = memoryview(data)
        while len(view) > FRAME:
            self._frame(PART, view[:FRAME])
            view = view[FRAME:]
        self._frame(kind, view)

    def _frame(self, kind: int, data: memoryview) -> None:
        with self.turn:
            while self.may_send < len(data) and not self.cancelled and not self.wire.broken:
                self.turn.wait()
            if self.cancelled:
                raise Cancelled()
            self.may_send -= len(data)
        self.wire.frame(self.number, *self._squeezed(kind, data))

    def _squeezed(self, kind: int, data: memoryview) -> Tuple[int, memoryview]:
        """A frame as it travels. What did not get smaller is not tried again for a while."""
        if len(data) < _WORTH or self.passing:
            self.passing = max(0, self.passing - 1)
            return kind, data
        small = zlib.compress(data, 1)
        if len(small) > len(data) * 9 // 10:
            self.passing = _PASSED
            return kind, data
        return kind | SQUEEZED, memoryview(small)

    def finish(self, value: Any) -> None:
        """The answer, after which nothing follows."""
        self._send(RESULT, self.wire.pack(value))
        self.wire.forget(self.number)

    def fail(self, reason: str, *details: Any) -> None:
        self.wire.frame(self.number, ERROR, memoryview(self.wire.pack([reason, *details])))
        self.wire.forget(self.number)

    def no_more(self) -> None:
        """Tell the other side that no message follows."""
        self.wire.frame(self.number, END, memoryview(b""))

    def cancel(self) -> None:
        """Tell the other side that its answer is not wanted any more."""
        if not self.ended:
            self.ended = True
            self.wire.forget(self.number)
            if not self.wire.broken:
                self.wire.frame(self.number, CANCEL, memoryview(b""))

    def next(self) -> Tuple[int, Any]:
        """The kind of what comes next, and it: a message, the result. Raises EOFError at the end of the messages, and
        Failed."""
        if self.ended:
            raise EOFError()
        parts: List[bytes] = []
        size = 0
        while True:
            try:
                kind, data = self.came.get(timeout=self.patience)
            except queue.Empty:
                self.wire.end("it says that it is there, and does not answer")
                raise WireError(self.wire.broken) from None
            if kind == 0:
                self.came.put((0, b""))
                raise WireError(self.wire.broken or "the connection ended")
            if data:
                with self.turn:
                    self.waiting -= len(data)
                self.wire.frame(self.number, TAKEN, memoryview(struct.pack(">I", len(data))))
            parts.append(data)
            size += len(data)
            if size > LARGEST:
                self.wire.end("a message is too large")
                raise WireError("a message is too large")
            if kind != PART:
                break
        if kind == END:
            raise EOFError()
        if kind in (RESULT, ERROR):
            self.ended = True
            self.wire.forget(self.number)
        message = self.wire.unpack(b"".join(parts))
        if kind == ERROR:
            if not isinstance(message, list) or not message or not isinstance(message[0], str):
                raise WireError("an error that cannot be read")
            raise Failed(message[0], *message[1:])
        return kind, message

    def receive(self) -> Any:
        """The next message. Raises EOFError when none follows, Failed when the other side could not do it."""
        kind, message = self.next()
        if kind == RESULT:
            raise EOFError()
        return message

    def answer(self) -> Any:
        """The result; messages before it are passed over."""
        while True:
            kind, message = self.next()
            if kind == RESULT:
                return message


class Wire:
    """Channels over two streams. answer: what is done with a call, in a thread of its own; None where none may come."""

    @staticmethod
    def pack(value: Any) -> bytes:
        return pack(value)

    @staticmethod
    def unpack(data: bytes) -> Any:
        return unpack(data)

    def __init__(self, read: BinaryIO, write: BinaryIO, answer: Optional[Callable[[Channel, List[Any]], None]] = None
                 ) -> None:
        self._read, self._write = read, write
        self._answer = answer
        self._writing = threading.Lock()
        self._channels: Dict[int, Channel] = {}
        self._numbers = threading.Lock()
        self._last = 0
        self.broken = ""  # why nothing goes any more
        self.heard = time.monotonic()
        self.sent = self.received = self.calls = 0  # bytes, bytes, and calls made

    def call(self, *words: Any) -> Channel:
        with self._numbers:
            self._last += 1
            self.calls += 1
            channel = self._channels[self._last] = Channel(self, self._last)
        channel._send(CALL, self.pack(list(words)))
        return channel

    def frame(self, number: int, kind: int, data: memoryview) -> None:
        with self._writing:
            if self.broken:
                raise WireError(self.broken)
            try:
                self._write.write(_HEAD.pack(number, kind, len(data)))
                self._write.write(data)
                self._write.flush()
            except (OSError, ValueError):
                self.broken = self.broken or "the connection ended"
                raise WireError(self.broken) from None
            self.sent += len(data) + _HEAD.size

    def forget(self, number: int) -> None:
        with self._numbers:
            self._channels.pop(number, None)

    def end(self, why: str) -> None:
        """Nothing goes any more; whoever waits is told."""
        self.broken = self.broken or why
        with self._numbers:
            every = list(self._channels.values())
        for channel in every:
            channel.came.put((0, b""))
            with channel.turn:
                channel.turn.notify_all()

    def run(self) -> None:
        """Read until the end."""
        why = "the connection ended"
        try:
            while not self.broken:
                head = self._exactly(_HEAD.size)
                if not head:
                    break
                number, kind, size = _HEAD.unpack(head)
                if size > FRAME:
                    raise WireError("a frame is too large")
                self._came(number, kind, self._exactly(size) if size else b"")
        except WireError as error:
            why = str(error)
        except (OSError, ValueError):
            pass
        finally:
            self.end(why)

    def _exactly(self, size: int) -> bytes:
        data = self._read.read(size)
        if data and len(data) < size:
            raise WireError("the connection ended in the middle of a frame")
        self.heard = time.monotonic()
        self.received += len(data)
        return data

    def _came(self, number: int, kind: int, data: bytes) -> None:
        if kind == PING:
            return
        if kind & SQUEEZED:
            kind, data = kind & ~SQUEEZED, _whole(data)
        with self._numbers:
            channel = self._channels.get(number)
            if channel is None and number > self._last and self._answer is not None and kind in (CALL, PART):
                if len(self._channels) >= CHANNELS:
                    raise WireError("there are too many calls at once")
                self._last = number
                channel = self._channels[number] = Channel(self, number)
                threading.Thread(target=self._called, args=(channel,), daemon=True).start()
            elif channel is None and number > self._last:
                raise WireError("an answer to what nobody asked")
        if channel is None:
            return  # what is left of a call that was ended
        if kind == TAKEN:
            if len(data) != 4:
                raise WireError("a frame cannot be read")
            with channel.turn:
                channel.may_send = min(channel.may_send + struct.unpack(">I", data)[0], WINDOW)
                channel.turn.notify_all()
        elif kind == CANCEL:
            with channel.turn:
                channel.cancelled = True
                channel.turn.notify_all()
            channel.came.put((END, b""))
        elif kind in (CALL, PART, MESSAGE, RESULT, ERROR, END):
            with channel.turn:
                if kind in (RESULT, ERROR):  # whoever answers takes nothing more
                    channel.cancelled = True
                    channel.turn.notify_all()
                channel.waiting += len(data)
                if channel.waiting > WINDOW + FRAME:
                    raise WireError("more came than was to come")
            channel.came.put((kind, data))
        else:
            raise WireError("a frame of an unknown kind")

    def _called(self, channel: Channel) -> None:
        try:
            _, words = channel.next()
            assert self._answer is not None
            self._answer(channel, words)
        except (WireError, EOFError, Cancelled):
            self.forget(channel.number)


# --- files


_PATH = getattr(os, "O_PATH", 0x200000 if sys.platform == "linux" else os.O_RDONLY)  # not every Python names it
_FOLDER = os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
GONE = (errno.ENOENT, errno.ENOTDIR, errno.ENAMETOOLONG)  # there is no such thing, and there cannot be
_CHUNK = 1 << 20
NOT_OVER, EXCHANGE = 1, 2  # RENAME_NOREPLACE and RENAME_EXCHANGE, renameat2(2)
_FICLONE = 0x40049409
_TRIES = 3


def facts_of(info: os.stat_result) -> List[Any]:
    mode = info.st_mode
    kind = ("file" if stat.S_ISREG(mode) else "folder" if stat.S_ISDIR(mode) else "link" if stat.S_ISLNK(mode)
            else "other")
    return [kind, stat.S_IMODE(mode), info.st_size, info.st_ino, info.st_mtime_ns, info.st_ctime_ns, info.st_uid,
            info.st_gid, info.st_atime_ns]


def create(name: str, parent: int) -> int:
    """A new file in an open folder, private until it gets its rights."""
    return os.open(name, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600, dir_fd=parent)


def attributes(opened: int) -> Tuple[Tuple[str, bytes], ...]:
    """The extended attributes of an open file; none where the filesystem, or this Python, has none."""
    try:
        return tuple((name, os.getxattr(opened, name)) for name in sorted(os.listxattr(opened)))
    except (OSError, AttributeError):
        return ()


def set_attributes(opened: int, wanted: Sequence[Sequence[Any]]) -> None:
    for name, value in wanted:
        try:
            if not _has(opened, name, value):
                os.setxattr(opened, name, value)
        except (OSError, AttributeError):
            pass  # some are the system's own to give


def _has(opened: int, name: str, value: bytes) -> bool:
    try:
        return bool(os.getxattr(opened, name) == value)
    except OSError:
        return False


def chown(call: Callable[[int, int], None], owner: Sequence[Any]) -> bool:
    """Give something away; the group alone, where the user cannot be had. Returns whether both could. owner: user,
    group, attributes."""
    try:
        call(owner[0], owner[1])
        return True
    except PermissionError:
        try:
            call(-1, owner[1])
        except PermissionError:
            pass
        return False


def finish(opened: int, mode: Optional[int], owner: Sequence[Any], anyway: bool = False, flush: bool = False) -> bool:
    """Make an open file belong to someone (user, group, attributes), with its rights. anyway: attributes are seen to
    though there be none. Returns whether it could be given."""
    info = os.fstat(opened)
    owned = (info.st_uid, info.st_gid) == (owner[0], owner[1]) or chown(
        lambda user, group: os.fchown(opened, user, group), owner)
    if mode is not None:
        os.fchmod(opened, mode)
    if owner[2] or anyway:
        set_attributes(opened, owner[2])
        if mode is not None and stat.S_IMODE(os.fstat(opened).st_mode) != mode:
            os.fchmod(opened, mode)  # an access control list has a word in it
    if flush:
        os.fsync(opened)
    return owned


def _renameat2() -> Any:
    try:
        function = ctypes.CDLL(None, use_errno=True).renameat2
    except (OSError, AttributeError):
        return None
    function.argtypes = (ctypes.c_int, ctypes.c_char_p, ctypes.c_int, ctypes.c_char_p, ctypes.c_uint)
    return function


_rename = _renameat2()
_audit = getattr(sys, "audit", lambda *_: None)  # from Python 3.8 on


def rename_with(flag: int, parent: int, name: str, other: int, new: str) -> bool:
    """renameat2(2). False: the kernel, the filesystem or the C library cannot."""
    if _rename is None:
        return False
    _audit("nostos.exchange" if flag == EXCHANGE else "os.rename", name, new, parent, other)
    if _rename(parent, os.fsencode(name), other, os.fsencode(new), flag) == 0:
        return True
    number = ctypes.get_errno()
    if number in (errno.EINVAL, errno.ENOSYS, errno.ENOTSUP):
        return False
    raise OSError(number, os.strerror(number), name)


def hold(opened: int, seconds: float) -> Optional[str]:
    """Lock an open folder until it is closed. Returns None, or who had it all the while; empty where nobody knows."""
    until = time.monotonic() + seconds
    while True:
        try:
            fcntl.flock(opened, fcntl.LOCK_EX | fcntl.LOCK_NB)
            return None
        except BlockingIOError:
            if time.monotonic() > until:
                return _holder(opened)
            time.sleep(0.1)
        except OSError:
            return None  # a filesystem without locks


def _holder(opened: int) -> str:
    """Whose lock it is, as the system lists them."""
    inode = os.fstat(opened).st_ino
    try:
        with open("/proc/locks") as listed:
            for line in listed:
                parts = line.split()
                if parts[1] == "FLOCK" and parts[5].endswith(":%d" % inode):
                    return "process %s" % parts[4]
    except (OSError, IndexError):
        pass
    return ""


def put(opened: int, content: Any) -> None:
    """Write all of a content."""
    rest = memoryview(content)
    while rest:
        rest = rest[os.write(opened, rest):]


class Below:
    """What lies below a folder. Every folder on the way to it is opened by itself, and never through a link, but for
    those that are to be followed, while they lead where they led. So whoever may write there cannot lead Nostos out of
    it by swapping a folder for a link. Both sides work on files by it."""

    root: Any = ""
    followed: Mapping[str, str] = {}
    called: Mapping[str, str] = {}  # files that are asked for by other paths than they lie at

    @staticmethod
    def refused(reason: str, *details: Any) -> BaseException:
        """What to raise: "leaves", a path; "led away", a path; "led elsewhere", a path and where it led."""
        return Failed(reason, *details)

    def parts(self, path: str) -> List[str]:
        """The parts of a relative path."""
        parts = path.split("/")
        if path.startswith("/") or "\0" in path or any(p in ("", ".", "..") for p in parts):
            raise self.refused("leaves", path)
        return parts

    @contextmanager
    def folder(self, path: str, readable: bool = True) -> Iterator[int]:
        """An open descriptor of a folder. readable: to be listed or flushed, not only to work in."""
        parts = self.parts(path) if path else []
        last = os.O_RDONLY if readable else _PATH
        opened = os.open(self.root, os.O_DIRECTORY | os.O_CLOEXEC | (_PATH if parts else last))
        try:
            for number, part in enumerate(parts, start=1):
                how = last if number == len(parts) else _PATH
                so_far = "/".join(parts[:number]) if self.followed else ""
                try:
                    if so_far in self.followed:
                        below = os.open(self.followed_to(so_far), _FOLDER | how)
                    else:
                        below = os.open(part, _FOLDER | how, dir_fd=opened)
                except OSError as error:
                    if error.errno in (errno.ELOOP, errno.ENOTDIR) and is_link(part, opened):
                        raise self.refused("led away", path) from None
                    raise
                os.close(opened)
                opened = below
            yield opened
        finally:
            os.close(opened)

    def followed_to(self, path: str) -> str:
        """The folder that a link leads to: only the one that it led to when it was decided to follow it."""
        if os.path.realpath(os.path.join(self.root, path)) != self.followed[path]:
            raise self.refused("led elsewhere", path, self.followed[path])
        return self.followed[path]

    @contextmanager
    def place(self, path: str) -> Iterator[Tuple[int, str]]:
        """The folder that a path lies in, open, and its last name."""
        parts = self.parts(self.called.get(path, path))
        with self.folder("/".join(parts[:-1]), readable=False) as parent:
            yield parent, parts[-1]

    def stat(self, path: str) -> Optional[os.stat_result]:
        try:
            if not path:
                return os.stat(self.root)
            if path in self.followed:
                with self.folder(path, readable=False) as opened:
                    return os.fstat(opened)
            with self.place(path) as (parent, name):
                return os.stat(name, dir_fd=parent, follow_symlinks=False)
        except OSError as error:
            if error.errno in GONE:
                return None
            raise

    def open(self, path: str) -> int:
        """An open descriptor of a file, for reading; of a link there is none."""
        if path in self.followed:
            with self.folder(path) as led:
                return os.dup(led)
        with self.place(path) as (parent, name):
            try:
                return os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=parent)
            except OSError as error:
                if error.errno == errno.ELOOP:
                    raise self.refused("led away", path) from None
                raise

    def open_any(self, path: str) -> int:
        """A descriptor of a file, or of a folder; the root's too."""
        return self.open(path) if path else os.open(self.root, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)

    def names(self, path: str) -> List[str]:
        try:
            with self.folder(path) as opened:
                return sorted(os.listdir(opened))
        except OSError as error:
            if error.errno in GONE:
                return []
            raise

    def link(self, path: str) -> str:
        with self.place(path) as (parent, name):
            return os.readlink(name, dir_fd=parent)

    def led_to(self, path: str) -> Optional[Tuple[str, os.stat_result]]:
        """Where a link to a folder leads, and what is there; None where it is no such link, or cannot be followed."""
        info = self.stat(path)
        if info is None or not stat.S_ISLNK(info.st_mode):
            return None
        led = os.path.realpath(os.path.join(self.root, path))
        try:
            status = os.stat(led)
        except OSError:
            return None
        return (led, status) if stat.S_ISDIR(status.st_mode) else None

    def whose(self, path: str) -> Tuple[int, int, Tuple[Tuple[str, bytes], ...]]:
        """User, group and attributes; where there is nothing, of the nearest folder above it, without its attributes.
        """
        info = self.stat(path)
        if info is not None:
            names: Tuple[Tuple[str, bytes], ...] = ()
            if not stat.S_ISLNK(info.st_mode):
                try:
                    opened = self.open_any(path)
                except OSError:
                    return info.st_uid, info.st_gid, names
                try:
                    names = attributes(opened)
                finally:
                    os.close(opened)
            return info.st_uid, info.st_gid, names
        while info is None and path:
            path = path.rpartition("/")[0]
            info = self.stat(path)
        if info is None:
            raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), str(self.root))
        return info.st_uid, info.st_gid, ()

    def inside(self, place: str) -> Optional[str]:
        """A whole path as one below the folder; None where it lies outside."""
        folder, _, name = place.rpartition("/")
        path, base = os.path.join(os.path.realpath(folder or "/"), name), os.path.realpath(self.root)
        return path[len(base):].strip("/") if (path + "/").startswith(base + "/") else None

    def may_write(self, path: str) -> bool:
        return os.access(os.path.join(self.root, path) if path else self.root, os.W_OK)

    def make_root(self) -> None:
        os.makedirs(self.root, 0o700, exist_ok=True)

    def create(self, path: str) -> int:
        with self.place(path) as (parent, name):
            return create(name, parent)

    def hand_over(self, path: str, owner: Sequence[Any], mode: Optional[int]) -> bool:
        """Make a path belong to someone, and set its rights. Returns whether it could be given."""
        if path:
            with self.place(path) as (parent, name):
                info = os.stat(name, dir_fd=parent, follow_symlinks=False)
                if stat.S_ISLNK(info.st_mode):
                    return (info.st_uid, info.st_gid) == (owner[0], owner[1]) or chown(
                        lambda user, group: os.chown(name, user, group, dir_fd=parent, follow_symlinks=False), owner)
        opened = self.open_any(path)
        try:
            return finish(opened, mode, owner, anyway=True)
        finally:
            os.close(opened)

    def move(self, path: str, target: str) -> None:
        with self.place(path) as (parent, name), self.place(target) as (other, new):
            os.rename(name, new, src_dir_fd=parent, dst_dir_fd=other)

    def move_new(self, path: str, target: str) -> None:
        with self.place(path) as (parent, name), self.place(target) as (other, new):
            if rename_with(NOT_OVER, parent, name, other, new):
                return
            if self.stat(target) is not None:  # the kernel, or the filesystem, is an old one
                raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), target)
            os.rename(name, new, src_dir_fd=parent, dst_dir_fd=other)

    def exchange(self, one: str, other: str) -> bool:
        with self.place(one) as (parent, name), self.place(other) as (second, new):
            return rename_with(EXCHANGE, parent, name, second, new)

    def second_name(self, path: str, target: str) -> bool:
        """A second name for a file or a link. False: there are no such names here."""
        try:
            with self.place(path) as (parent, name), self.place(target) as (other, new):
                os.link(name, new, src_dir_fd=parent, dst_dir_fd=other, follow_symlinks=False)
            return True
        except OSError as error:
            if error.errno in (errno.EEXIST, errno.ENOENT, errno.ENOSPC, errno.EDQUOT):
                raise
            return False

    def remove(self, path: str) -> None:
        info = self.stat(path)
        if info is None:
            return
        if stat.S_ISDIR(info.st_mode):
            for name in self.names(path):
                self.remove(path + "/" + name)
            self.remove_empty(path)
            return
        try:
            with self.place(path) as (parent, name):
                os.unlink(name, dir_fd=parent)
        except FileNotFoundError:
            pass

    def remove_empty(self, path: str) -> bool:
        try:
            with self.place(path) as (parent, name):
                os.rmdir(name, dir_fd=parent)
            return True
        except OSError as error:
            if error.errno in (*GONE, errno.ENOTEMPTY, errno.EEXIST):
                return False
            raise

    def sync(self, path: str) -> None:
        try:
            with self.folder(path) as opened:
                os.fsync(opened)
        except OSError as error:
            if error.errno not in (errno.ENOENT, errno.ENOTDIR, errno.EINVAL, errno.ENOTSUP, errno.EBADF):
                raise

    # --- making; what could not be given away is told by the answer

    def lay_folder(self, path: str, mode: int, owner: Optional[Sequence[Any]]) -> bool:
        owner = owner or self.whose(path)
        with self.place(path) as (parent, name):
            os.mkdir(name, 0o700, dir_fd=parent)
        return self.hand_over(path, owner, mode)

    def lay_file(self, path: str, pieces: Iterable[bytes], mode: int, owner: Optional[Sequence[Any]],
              times: Optional[Sequence[int]], flush: bool = True) -> List[Any]:
        """Write a new file. Returns its digest, whether it could be given, and its facts."""
        owner = owner or self.whose(path)
        digest = hashlib.blake2b(digest_size=16)
        opened = self.create(path)
        try:
            for piece in pieces:
                digest.update(piece)
                put(opened, piece)
            done = finish(opened, mode, owner)
            if times is not None:
                os.utime(opened, ns=(times[0], times[1]))
            if flush:
                os.fsync(opened)
            return [digest.digest(), done, facts_of(os.fstat(opened))]
        finally:
            os.close(opened)

    def lay_copy(self, source: "Below", path: str, target: str, mode: int, owner: Optional[Sequence[Any]],
             flush: bool = True) -> List[Any]:
        """A file of another tree of this machine, as `lay_file` does; one that is written meanwhile is read again."""
        owner = owner or self.whose(target)
        read = source.open(path)
        try:
            opened = self.create(target)
            try:
                digest, times, head = pour(read, opened)
                done = finish(opened, mode, owner)
                os.utime(opened, ns=times)
                if flush:
                    os.fsync(opened)
                return [digest, done, facts_of(os.fstat(opened)), head]
            finally:
                os.close(opened)
        finally:
            os.close(read)

    def lay_link(self, path: str, to: str, owner: Optional[Sequence[Any]]) -> bool:
        owner = owner or self.whose(path)
        with self.place(path) as (parent, name):
            os.symlink(to, name, dir_fd=parent)
        return self.hand_over(path, owner, None)

    def lay_again(self, path: str, target: str) -> bool:
        if self.second_name(path, target):
            return True
        info = self.stat(path)
        if info is None:
            raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), path)
        if stat.S_ISLNK(info.st_mode):
            return self.lay_link(target, self.link(path), self.whose(path))
        return bool(self.lay_copy(self, path, target, stat.S_IMODE(info.st_mode), self.whose(path))[1])

    def set_times(self, path: str, accessed: int, modified: int) -> None:
        with self.place(path) as (parent, name):
            os.utime(name, ns=(accessed, modified), dir_fd=parent, follow_symlinks=False)


class Fence:
    """What of this machine may be touched: all that its user may, until it is said, once, what; from then on, that.

    folders: real paths of folders, with all below them, and what Nostos itself lays down beside them. files: single
    files that may be read. programs: names of programs. commands: whole commands, for what is none of these. servers:
    host, port and socket of database servers.
    """

    def __init__(self) -> None:
        self.folders: Optional[List[str]] = None
        self.files: Set[str] = set()
        self.programs: Set[str] = set()
        self.commands: Set[Tuple[str, ...]] = set()
        self.servers: Set[Tuple[str, int, str]] = set()
        self.ports: Set[int] = set()  # on which this helper itself lets something answer

    def put_up(self, folders: Sequence[str], files: Sequence[str], programs: Sequence[str],
               commands: Sequence[Sequence[str]], servers: Sequence[Sequence[Any]]) -> None:
        if self.folders is not None:
            raise Failed("refused", "it was said before what may be touched")
        self.files = {os.path.realpath(p) for p in files}
        self.programs = set(programs)
        self.commands = {tuple(c) for c in commands}
        self.servers = {(str(h), int(p), str(s)) for h, p, s in servers}
        self.folders = [os.path.realpath(p) for p in folders]

    def beside(self, path: str) -> Optional[Set[str]]:
        """What may be touched in the folder at a real path: None for all of it, else names, and what is Nostos's own.
        Raises Failed where nothing of it may be."""
        if self.folders is None:
            return None
        for folder in self.folders:
            above = os.path.dirname(folder)
            if path == folder or path.startswith((folder.rstrip("/") + "/", above.rstrip("/") + "/" + OWN)):
                return None
        names = {os.path.basename(f) for f in self.folders if os.path.dirname(f) == path}
        if not names:
            raise Failed("refused", "%s is not what was named at the start" % path)
        return names

    def check(self, path: str, above: bool = False) -> str:
        """A path as it really is. above: what is on the way to a named one may be looked at, too."""
        real = os.path.realpath(path)
        if self.folders is None or real in self.files:
            return real
        if above and any((f + "/").startswith(real.rstrip("/") + "/") for f in [*self.folders, *self.files]):
            return real
        names = self.beside(real if real in self.folders else os.path.dirname(real))
        last = os.path.basename(real)
        if names is not None and last not in names and not last.startswith(OWN):
            raise Failed("refused", "%s is not what was named at the start" % real)
        return real

    def check_run(self, folder: str, arguments: Sequence[str]) -> None:
        if self.folders is None:
            return
        self.check(folder)
        looks = list(arguments[:3]) == ["sh", "-c", 'command -v "$0" >/dev/null']
        if not (looks or tuple(arguments) in self.commands or os.path.basename(arguments[0]) in self.programs):
            raise Failed("refused", "%s is not a program that was named at the start" % arguments[0])

    def check_server(self, host: str, port: int, path: str) -> None:
        own_port = host == "127.0.0.1" and port in self.ports
        if self.folders is not None and not own_port and (host, port, path) not in self.servers:
            raise Failed("refused", "%s is not a server that was named at the start" % (path or "%s:%d" % (host, port)))

    def attached(self, action: int, file: Any, *_: Any) -> int:
        """For SQLite: whether another file may be attached."""
        if self.folders is None or action != _ATTACH:
            return sqlite3.SQLITE_OK
        name = file
        if file is not None and not isinstance(file, str):  # PyPy gives what C does
            ffi = sys.modules["_sqlite3"]._ffi
            name = None if file == ffi.NULL else ffi.string(file).decode("utf-8", "surrogateescape")
        if name is None:  # nobody can say which
            return sqlite3.SQLITE_DENY
        path = unquote(name[5:].partition("?")[0]) if name.startswith("file:") else name
        if path in ("", ":memory:"):
            return sqlite3.SQLITE_OK
        try:
            self.check(path)
        except Failed:
            return sqlite3.SQLITE_DENY
        return sqlite3.SQLITE_OK


FENCE = Fence()  # of this process: it serves one connection
_ATTACH = 24  # SQLITE_ATTACH, which Python has no name for


class Tree(Below):
    """A file tree below a folder, as calls ask for it. With a fence, every folder on the way to it is opened by itself,
    and never through a link."""

    def __init__(self, root: str, followed: Sequence[Sequence[str]] = ()) -> None:
        if not os.path.isabs(root):
            raise Failed("refused", "a root is not absolute")
        self.root = root
        self.followed = {path: led for path, led in followed}
        self.only: Optional[Set[str]] = None
        self._held = -1
        if FENCE.folders is not None:
            for led in self.followed.values():
                FENCE.check(led)
            self._hold(os.path.realpath(root))

    def _hold(self, real: str) -> None:
        self.only = FENCE.beside(real)
        if os.path.isdir(real) and os.path.isdir("/proc/self/fd"):
            every = Below()
            every.root = "/"
            with every.folder(real.strip("/"), readable=False) as opened:
                self._held = os.dup(opened)
            self.root = "/proc/self/fd/%d" % self._held
        else:
            self.root = real

    def __del__(self) -> None:
        if getattr(self, "_held", -1) >= 0:
            os.close(self._held)

    def parts(self, path: str) -> List[str]:
        parts = Below.parts(self, path)
        if self.only is not None and parts[0] not in self.only and not parts[0].startswith(OWN):
            raise Failed("refused", "%s is not what was named at the start" % path)
        return parts

    # --- looking

    def status(self, path: str) -> Any:
        info = self.stat(path)
        return None if info is None else facts_of(info)

    def content(self, path: str, most: int) -> bytes:
        opened = self.open(path)
        try:
            parts = [os.read(opened, most)]
            while parts[-1] and sum(map(len, parts)) < most:
                parts.append(os.read(opened, most - sum(map(len, parts))))
            return b"".join(parts)
        finally:
            os.close(opened)

    def signature(self, path: str) -> Any:
        return self.status(path)

    def led(self, path: str) -> Any:
        target = self.led_to(path)
        return None if target is None else [target[0], facts_of(target[1])]

    def digest(self, path: str) -> bytes:
        digest = hashlib.blake2b(digest_size=16)
        opened = self.open(path)
        try:
            while True:
                piece = os.read(opened, _CHUNK)
                if not piece:
                    return digest.digest()
                digest.update(piece)
        finally:
            os.close(opened)

    def entry(self, path: str, digest: bool) -> Any:
        """Facts, where a link leads, digest: of a file, a link or an empty folder."""
        entry: Any = None
        for _ in range(_TRIES):
            info = self.stat(path)
            if info is None:
                return None
            facts = facts_of(info)
            if facts[0] == "folder":
                return None if self.names(path) else [facts, "", None, True]
            if facts[0] == "link":
                return [facts, self.link(path), None, True]
            entry = [facts, "", None, True]
            if not digest:
                return entry
            try:
                entry[2] = self.digest(path)
            except FileNotFoundError:
                continue
            after = self.stat(path)
            if after is not None and (after.st_mtime_ns, after.st_ctime_ns) == (info.st_mtime_ns, info.st_ctime_ns):
                return entry
        return None if entry is None else [*entry[:3], False]  # it is written all the while

    def free(self, path: str) -> int:
        return shutil.disk_usage(self.followed.get(path, self.root)).free

    def owner(self, path: str) -> Any:
        return self.whose(path)

    def within(self, place: str) -> Optional[str]:
        return self.inside(place)

    give = Below.hand_over
    make_folder, make_link, write, copy, again, times = (
        Below.lay_folder, Below.lay_link, Below.lay_file, Below.lay_copy, Below.lay_again, Below.set_times)


def _signed(name: str, signed: Any) -> Any:
    """What a call gave, as it is compared: of a file's facts, what changes with anything that is done to it."""
    if name != "signature" or signed is None:
        return signed
    is_folder = signed[0] == "folder"
    return [signed[0], signed[1], 0 if is_folder else signed[2], signed[3], 0 if is_folder else signed[4]]


def _is_text(content: bytes) -> bool:
    try:
        content.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return b"\0" not in content


def is_link(name: str, parent: int) -> bool:
    try:
        return stat.S_ISLNK(os.stat(name, dir_fd=parent, follow_symlinks=False).st_mode)
    except OSError:
        return False


def pour(read: int, write: int) -> Tuple[bytes, Tuple[int, int], bytes]:
    """Copy one open file into another; holes stay holes; one that is written meanwhile is copied again, some times.
    Returns the digest, the times (ns) and the first piece."""
    before = os.fstat(read)
    digest = head = b""
    for _ in range(_TRIES):
        digest, head = _poured(read, write, before.st_blocks * 512 < before.st_size)
        after = os.fstat(read)
        if (after.st_mtime_ns, after.st_size) == (before.st_mtime_ns, before.st_size):
            break
        before = after
        for each in (read, write):
            os.lseek(each, 0, os.SEEK_SET)
        os.ftruncate(write, 0)
    return digest, (before.st_atime_ns, before.st_mtime_ns), head


def share(read: int, write: int) -> bool:
    """Let an empty file have the blocks of another, where the filesystem keeps such copies apart once one is written
    to: FICLONE of ioctl_ficlone(2). Returns whether it does."""
    try:
        fcntl.ioctl(write, _FICLONE, read)
        return True
    except OSError:
        return False


def _poured(read: int, write: int, sparse: bool) -> Tuple[bytes, bytes]:
    shared = share(read, write)
    digest = hashlib.blake2b(digest_size=16)
    head = b""
    size = 0
    while True:
        chunk = os.read(read, _CHUNK)
        digest.update(chunk)
        head = head or chunk
        size += len(chunk)
        if shared:
            pass  # it is there already
        elif sparse and not chunk.strip(b"\0"):
            os.lseek(write, len(chunk), os.SEEK_CUR)
        else:
            put(write, chunk)
        if len(chunk) < _CHUNK and (not chunk or size >= os.fstat(read).st_size):
            break
    if sparse and not shared:
        os.ftruncate(write, size)
    return digest.digest(), head


class Scan:
    """Every file, link and empty folder of a tree, in a stable order, and what had to be passed over."""

    def __init__(self, tree: Below, apart: Sequence[str], plain: Sequence[str], below: Sequence[str]) -> None:
        self.tree = tree
        self.base = os.path.realpath(tree.root)
        self.apart = set(apart)
        # Folders are tested before what is in them: of the path itself, and, for a folder, whether all below is meant.
        self.plain, self.below = (re.compile("|".join(map(fnmatch.translate, some)) or r"(?!)").match
                                  for some in (plain, below))

    def run(self) -> Iterator[List[Any]]:
        """[path, kind, size, rights, modified, changed, where a link leads], or [path, why it was passed over]."""
        return self._opened(lambda: os.open(self.base, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC), "")

    def _opened(self, opening: Callable[[], int], path: str) -> Iterator[List[Any]]:
        try:
            opened = opening()
        except OSError as error:
            if not path or not isinstance(error, FileNotFoundError):
                yield [path or ".", "cannot be read: " + (error.strerror or "")]
            return
        try:
            for entry in self._walk(opened, path + "/" if path else ""):
                yield entry
        finally:
            os.close(opened)

    def _walk(self, opened: int, prefix: str) -> Iterator[List[Any]]:
        try:
            names = sorted(os.listdir(opened))
        except OSError as error:
            yield [prefix.rstrip("/") or ".", "cannot be read: " + (error.strerror or "")]
            return
        if prefix and STAMP in names:
            return  # a staging copy, which is a site of its own
        if not names and prefix:
            yield [prefix[:-1], "folder", 0, stat.S_IMODE(os.fstat(opened).st_mode), 0, 0, None]
        for name in names:
            path = prefix + name
            if name.startswith(OWN) or path in self.apart or self.plain(path):
                continue
            try:
                path.encode("utf-8")
            except UnicodeEncodeError:
                yield [path.encode("utf-8", "replace").decode("utf-8"), "its name is not valid UTF-8"]
                continue
            try:
                for each in self._entry(opened, name, path):
                    yield each
            except FileNotFoundError:
                continue

    def _entry(self, opened: int, name: str, path: str) -> Iterator[List[Any]]:
        info = os.stat(name, dir_fd=opened, follow_symlinks=False)
        entry = [path, "file", info.st_size, stat.S_IMODE(info.st_mode), info.st_mtime_ns, info.st_ctime_ns, None]
        if stat.S_ISDIR(info.st_mode):
            if not self.below(path):
                for facts in self._opened(lambda: os.open(name, os.O_RDONLY | _FOLDER, dir_fd=opened), path):
                    yield facts
        elif stat.S_ISLNK(info.st_mode) and path in self.tree.followed:
            for facts in self._opened(lambda: os.open(self.tree.followed_to(path), os.O_RDONLY | _FOLDER), path):
                yield facts
        elif stat.S_ISLNK(info.st_mode):
            target = os.readlink(name, dir_fd=opened)
            resolved = os.path.realpath(self.base + "/" + path)
            if target.startswith("/") or not (resolved + "/").startswith(self.base + "/"):
                yield [path, "is a link out of the tree, to " + target]
            else:
                yield [path, "link", 0, 0o777, info.st_mtime_ns, info.st_ctime_ns, target]
        elif not stat.S_ISREG(info.st_mode):
            yield [path, "is neither a file, a folder nor a link"]
        elif os.access(name, os.R_OK, dir_fd=opened):
            yield entry
        else:
            os.stat(name, dir_fd=opened, follow_symlinks=False)  # is it still there?
            yield [path, "cannot be read: no permission"]


def in_batches(items: Iterator[Any], most: int = 500) -> Iterator[List[Any]]:
    some: List[Any] = []
    for each in items:
        some.append(each)
        if len(some) >= most:
            yield some
            some = []
    if some:
        yield some


# --- SQLite


ROWS_PER_BLOCK = 128
BUCKETS = 2048
_ROWS, _ROW_BYTES = 20_000, 2 << 20


def _text(data: bytes) -> str:
    return data.decode("utf-8", "surrogateescape")


def block_of(key: Sequence[Any]) -> int:
    """The number of the block that a row with this key belongs to: whole ranges of a number, else a bucket by hash."""
    if len(key) == 1 and isinstance(key[0], int):
        # Towards zero, as servers divide.
        return key[0] // ROWS_PER_BLOCK if key[0] >= 0 else -(-key[0] // ROWS_PER_BLOCK)
    return zlib.crc32(b"\x1f".join(
        v if isinstance(v, bytes) else str(v).encode("utf-8", "surrogateescape") for v in key)) % BUCKETS


def row_digest(values: Sequence[Any]) -> bytes:
    """16 bytes that stand for these values in this order."""
    return hashlib.blake2b(pack(list(values)), digest_size=16).digest()


def _no_database(path: str) -> str:
    """What keeps a file from being a database; empty where nothing does. Raises OSError where it cannot be read."""
    if not os.path.exists(path):
        return "missing"
    if not os.path.isfile(path):
        return "none"
    with open(path, "rb") as file:
        return "" if file.read(16) == b"SQLite format 3\x00" else "none"


class Sqlite:
    """One connection to a SQLite file. Each request is a list, and so is its answer."""

    def __init__(self, path: str, mode: str, wait: float) -> None:
        if mode == "new":
            os.makedirs(os.path.dirname(path), exist_ok=True)
            os.close(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600))
        self.path = path
        self.connection = self._connect("ro" if mode == "ro" else "rw", wait)
        self.connection.text_factory = _text
        self.connection.execute("PRAGMA foreign_keys = ON")
        self.connection.execute("SELECT count(*) FROM sqlite_master").fetchone()  # says so when it is no database
        self.results: Dict[int, Iterator[Any]] = {}
        self.last = 0

    def _connect(self, mode: str, wait: float) -> sqlite3.Connection:
        return sqlite3.connect("file:%s?mode=%s" % (url_quote(self.path), mode), uri=True, timeout=wait,
                               isolation_level=None)

    def serve(self, channel: Channel) -> None:
        asked: Dict[str, Callable[..., Any]] = {
            "run": self.run, "many": self.many, "more": self.more, "drop": self.drop, "blocks": self.blocks,
            "digests": self.digests, "mentions": self.mentions, "relieve": self.relieve, "all": self.all,
            "all_blocks": lambda queries: [self.blocks(*query) for query in queries]}
        while True:
            try:
                words = channel.receive()
            except EOFError:
                return
            try:
                answer = ["done", asked[words[0]](*words[1:])]
            except sqlite3.Error as error:
                answer = ["error", type(error).__name__, str(error)]
            except sqlite3.Warning as error:
                answer = ["error", "ProgrammingError", str(error)]
            channel.send([*answer, self.connection.in_transaction])

    def _some(self, number: int, rows: Iterator[Any]) -> List[Any]:
        """The next rows, and the number under which there are more; 0: there are none."""
        fetched: List[Any] = []
        size = 0
        for row in rows:
            fetched.append(list(row))
            size += sum(len(v) if isinstance(v, (str, bytes)) else 9 for v in row)
            if len(fetched) >= _ROWS or size >= _ROW_BYTES:
                self.results[number] = rows
                return [fetched, number]
        self.results.pop(number, None)
        return [fetched, 0]

    def _new(self, rows: Iterator[Any]) -> List[Any]:
        self.last += 1
        return self._some(self.last, rows)

    def run(self, sql: str, values: Sequence[Any]) -> List[Any]:
        cursor = self.connection.execute(sql, tuple(values))
        names = [d[0] for d in cursor.description or ()]
        return [names, cursor.rowcount, cursor.lastrowid, *self._new(iter(cursor))]

    def all(self, statements: Sequence[str]) -> List[Any]:
        """All rows of some short answers."""
        return [[list(row) for row in self.connection.execute(sql).fetchall()] for sql in statements]

    def many(self, sql: str, rows: Sequence[Sequence[Any]]) -> int:
        return self.connection.executemany(sql, rows).rowcount

    def more(self, number: int) -> List[Any]:
        return self._some(number, self.results[number])

    def drop(self, number: int) -> None:
        self.results.pop(number, None)

    def blocks(self, sql: str, keys: int) -> List[Any]:
        """Of a query whose first columns are the key: [block, rows, digest of the rest] each."""
        blocks: Dict[int, List[int]] = {}
        for row in self.connection.execute(sql):
            total = blocks.setdefault(block_of(row[:keys]), [0, 0])
            total[0] += 1
            total[1] ^= int.from_bytes(row_digest(row[keys:])[:8], "big")
        return [[number, *total] for number, total in blocks.items()]

    def digests(self, sql: str, keys: int, numbers: Optional[Sequence[int]]) -> List[Any]:
        wanted = None if numbers is None else set(numbers)
        return self._new((*row[:keys], row_digest(row[keys:])) for row in self.connection.execute(sql)
                         if wanted is None or block_of(row[:keys]) in wanted)

    def mentions(self, numbers: Sequence[str]) -> None:
        wanted = {number.encode() for number in numbers}
        # A text is given as its bytes, for not all that stands where a text should is one.
        self.connection.create_function(
            "nostos_mentions", 1, lambda t: isinstance(t, bytes) and not wanted.isdisjoint(re.findall(rb"\d+", t)))

    def relieve(self, longest: int) -> None:
        try:
            if os.stat(self.path + "-wal").st_size > longest:
                with closing(self._connect("rw", 0)) as connection:
                    connection.execute("PRAGMA wal_checkpoint(PASSIVE)").fetchone()
        except (OSError, sqlite3.Error):
            pass


# --- answers


class Pieces:
    """What the other side sends until None, which says that it was all."""

    def __init__(self, channel: Channel) -> None:
        self.channel = channel
        self.over = False

    def __iter__(self) -> "Pieces":
        return self

    def __next__(self) -> Any:
        piece = None if self.over else self.channel.receive()
        if piece is None:
            self.over = True
            raise StopIteration
        return piece

    def pass_over(self) -> None:
        """Take the rest, so that what follows is understood."""
        for _ in self:
            pass


class Answers:
    """What is answered to calls, by their first word."""

    # What a tree does by itself, and answers with one value.
    TREE = ("status", "names", "link", "led", "digest", "entry", "free", "may_write", "owner", "within", "make_root",
            "content", "signature", "give", "make_folder", "make_link", "again", "move", "move_new", "exchange",
            "times", "remove", "remove_empty", "sync")

    def __call__(self, channel: Channel, words: List[Any]) -> None:
        try:
            name = words[0]
            if not isinstance(name, str) or name.startswith("_") or not hasattr(self, name):
                raise Failed("refused", "nobody knows how to answer")
            channel.finish(getattr(self, name)(channel, *words[1:]))
        except (WireError, EOFError, Cancelled):
            self._gone(channel)
        except Failed as error:
            self._fail(channel, error.reason, *error.details)
        except OSError as error:
            name = error.filename if isinstance(error.filename, str) else ""
            self._fail(channel, "os", error.errno or errno.EIO, error.strerror or str(error), name)
        except sqlite3.Error as error:
            self._fail(channel, "sqlite", type(error).__name__, str(error))
        except Exception as error:  # whatever it is, the other side must not wait for ever
            self._fail(channel, "refused", "%s: %s" % (type(error).__name__, error))

    @staticmethod
    def _gone(channel: Channel) -> None:
        channel.wire.forget(channel.number)

    def _fail(self, channel: Channel, reason: str, *details: Any) -> None:
        try:
            channel.fail(reason, *details)
        except WireError:
            self._gone(channel)

    def about(self, channel: Channel) -> List[Any]:
        return [list(sys.version_info[:3]), os.geteuid(), os.getegid(), os.getgroups(), os.path.expanduser("~"),
                socket.gethostname(), sqlite3.sqlite_version]

    def flush(self, channel: Channel) -> None:
        """All that was written, to the disk."""
        os.sync()

    # --- whole paths, of configurations

    def fence(self, channel: Channel, folders: List[str], files: List[str], programs: List[str],
              commands: List[List[str]], servers: List[List[Any]]) -> None:
        """From now on nothing else of this machine is touched: see `Fence`."""
        FENCE.put_up(folders, files, programs, commands, servers)

    def real(self, channel: Channel, path: str) -> str:
        return FENCE.check(os.path.expanduser(path), above=True)

    def look(self, channel: Channel, path: str) -> Any:
        """What is at a path, or where it leads."""
        try:
            FENCE.check(path, above=True)
            return facts_of(os.stat(path))
        except OSError as error:
            if error.errno in GONE:
                return None
            raise

    def foresee(self, channel: Channel, folder: str, names: List[str], most: int) -> List[Any]:
        """Of paths that begin at a folder: where they are, what is there, and the content of small files."""
        seen: List[Any] = []
        for name in names:
            path = os.path.normpath(os.path.join(folder, name))
            try:
                facts = self.look(channel, path)
                small = facts is not None and facts[0] == "file" and facts[2] <= most
                seen.append([os.path.realpath(path), facts, self.content(channel, path, most) if small else None])
            except (OSError, Failed):
                seen.append(None)
        return seen

    def content(self, channel: Channel, path: str, most: int) -> bytes:
        with open(FENCE.check(path), "rb") as file:
            return file.read(most)

    # --- trees

    def tree(self, channel: Channel, at: List[Any], name: str, *words: Any) -> Any:
        if name not in self.TREE:
            raise Failed("refused", "nobody knows how to answer")
        return getattr(Tree(*at), name)(*words)

    def many(self, channel: Channel, at: List[Any], calls: List[Any], in_order: bool) -> List[Any]:
        """What each of many calls gives: [True, it], or [False, what is wrong]. in_order: each comes with whether
        something is expected of it, and what; after the first that does not give that, no other is done."""
        tree = Tree(*at)
        answers: List[Any] = []
        for call in calls:
            words, is_expected, expected = call if in_order else (call, False, None)
            try:
                if words[0] not in self.TREE:
                    raise Failed("refused", "nobody knows how to answer")
                answers.append([True, getattr(tree, words[0])(*words[1:])])
            except Failed as error:
                answers.append([False, error.reason, *error.details])
            except OSError as error:
                answers.append([False, "os", error.errno or errno.EIO, error.strerror or str(error)])
            answer = answers[-1]
            if in_order and (not answer[0] or (is_expected and _signed(words[0], answer[1]) != expected)):
                break
        return answers

    def copies(self, channel: Channel, at: List[Any], source: List[Any],
               wanted: List[Any]) -> None:
        tree, other = Tree(*at), Tree(*source)
        for path, target, mode, owner in wanted:
            channel.send(tree.copy(other, path, target, mode, owner)[:3])

    def lock(self, channel: Channel, root: str, seconds: float) -> None:
        opened = os.open(FENCE.check(root), os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            who = hold(opened, seconds)
            if who is not None:
                raise Failed("held", who + " there" if who else "on that machine")
            channel.send(True)
            wait_for_end(channel)
        finally:
            os.close(opened)

    def scan(self, channel: Channel, at: List[Any], apart: List[str], plain: List[str],
             below: List[str]) -> None:
        for some in in_batches(Scan(Tree(*at), apart, plain, below).run()):
            channel.send(some)

    def digests(self, channel: Channel, at: List[Any], paths: List[str]) -> None:
        """One a path, in their order; none of what is not there."""
        tree = Tree(*at)

        def each() -> Iterator[Optional[bytes]]:
            for path in paths:
                try:
                    yield tree.digest(path)
                except FileNotFoundError:
                    yield None

        for some in in_batches(each(), 100):
            channel.send(some)

    def read(self, channel: Channel, at: List[Any], path: str) -> None:
        """Its facts, and its pieces."""
        opened = Tree(*at).open(path)
        try:
            channel.send(facts_of(os.fstat(opened)))
            while True:
                piece = os.read(opened, FRAME)
                if not piece:
                    return
                channel.send(piece)
        finally:
            os.close(opened)

    @staticmethod
    def _pieces(channel: Channel) -> "Pieces":
        return Pieces(channel)

    def write(self, channel: Channel, at: List[Any], path: str, mode: int, owner: Any,
              times: Any) -> List[Any]:
        return self._written(Tree(*at), channel, path, mode, owner, times, True)

    def _written(self, tree: Tree, channel: Channel, path: str, mode: int, owner: Any, times: Any,
                 flush: bool) -> List[Any]:
        pieces = self._pieces(channel)
        try:
            return tree.write(path, pieces, mode, owner, times, flush)
        except (EOFError, Cancelled, WireError):  # half a file is none
            tree.remove(path)
            raise
        except OSError:
            pieces.pass_over()
            raise

    def copy(self, channel: Channel, at: List[Any], source: List[Any],
             path: str, target: str, mode: int, owner: Any) -> List[Any]:
        return Tree(*at).copy(Tree(*source), path, target, mode, owner)[:3]

    def copy_all(self, channel: Channel, at: List[Any], source: List[Any],
                 small: int) -> None:
        """Entries come as lists of [path, kind, rights, size]; an answer each: [digest, times, content of a small one,
        whether it could be given], or [number of an error, its text]."""
        tree, other = Tree(*at), Tree(*source)
        tree.make_root()
        folders: Set[str] = set()
        for some in self._pieces(channel):
            channel.send([self._copied(tree, other, folders, small, entry) for entry in some])
        self._as_in(tree, other, folders)

    def _copied(self, tree: Tree, other: Tree, folders: Set[str], small: int, entry: List[Any]) -> List[Any]:
        """entry: [path, kind, rights, size]."""
        path, kind, mode, size = entry
        try:
            self._make_above(tree, path, folders)
            owner = other.owner(path)
            if kind == "folder":
                done = True
                if tree.stat(path) is None:
                    done = tree.make_folder(path, mode, owner)
                return [b"", [0, 0], None, done]
            if kind == "link":
                done = tree.make_link(path, other.link(path), owner)
                info = tree.stat(path)
                return [b"", [info.st_mtime_ns, info.st_ctime_ns] if info else [0, 0], None, done]
            digest, done, facts, head = tree.copy(other, path, path, mode, owner, flush=False)
            is_text = len(head) <= small and size <= small and _is_text(head)
            return [digest, facts[4:6], head if is_text else None, done]
        except OSError as error:
            return [error.errno or errno.EIO, error.strerror or str(error)]

    @staticmethod
    def _make_above(tree: Tree, path: str, folders: Set[str]) -> None:
        done = ""
        for part in path.split("/")[:-1]:
            done = done + "/" + part if done else part
            if done not in folders:
                folders.add(done)
                if tree.stat(done) is None:
                    with tree.place(done) as (parent, name):
                        os.mkdir(name, 0o700, dir_fd=parent)  # private until all is in it

    @staticmethod
    def _as_in(tree: Tree, other: Tree, folders: Set[str]) -> None:
        for folder in sorted(folders, reverse=True):
            info = other.stat(folder)
            if info is not None and tree.stat(folder) is not None:
                tree.give(folder, other.owner(folder), stat.S_IMODE(info.st_mode))

    def take_all(self, channel: Channel, at: List[Any]) -> List[str]:
        """Entries come as [path, kind, rights, owner, times, where a link leads], a file's followed by its pieces and
        None; an answer each: [digest, times, whether it could be given] or [number of an error, its text]. Folders are
        given as they are to be, at last, by [path, "above", rights, owner, times, ""]."""
        tree = Tree(*at)
        tree.make_root()
        folders: Set[str] = set()
        for entry in self._pieces(channel):
            try:
                channel.send(self._taken(tree, channel, folders, entry))
            except OSError as error:
                channel.send([error.errno or errno.EIO, error.strerror or str(error)])
        return sorted(folders)

    def _taken(self, tree: Tree, channel: Channel, folders: Set[str], entry: List[Any]) -> List[Any]:
        """entry: as `take_all` takes it."""
        path, kind, mode, owner, times, link = entry
        if kind == "above":
            return [b"", [0, 0], tree.give(path, owner, mode)]
        try:
            self._make_above(tree, path, folders)
        except OSError:
            if kind == "file":
                self._pieces(channel).pass_over()
            raise
        if kind == "folder":
            return [b"", [0, 0], tree.make_folder(path, mode, owner) if tree.stat(path) is None else True]
        if kind == "link":
            done = tree.make_link(path, link, owner)
            info = tree.stat(path)
            return [b"", [info.st_mtime_ns, info.st_ctime_ns] if info else [0, 0], done]
        digest, done, facts = self._written(tree, channel, path, mode, owner, times, False)
        return [digest, facts[4:6], done]

    def give_all(self, channel: Channel, at: List[Any]) -> None:
        """Paths come in lists. Of each: [facts, owner, where a link leads], a file's pieces and None; or [number of an
        error, its text]."""
        tree = Tree(*at)
        for some in self._pieces(channel):
            for path in some:
                opened = -1
                try:
                    info = tree.stat(path)
                    if info is None:
                        raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), path)
                    is_file = stat.S_ISREG(info.st_mode)
                    opened = tree.open(path) if is_file else -1
                    channel.send([facts_of(info), tree.owner(path),
                                  tree.link(path) if stat.S_ISLNK(info.st_mode) else ""])
                    while is_file:
                        piece = os.read(opened, FRAME)
                        channel.send(piece or None)
                        if not piece:
                            break
                except OSError as error:
                    channel.send([error.errno or errno.EIO, error.strerror or str(error)])
                finally:
                    if opened >= 0:
                        os.close(opened)

    # --- programs

    def variable(self, channel: Channel, name: str) -> Optional[str]:
        return os.environ.get(name)

    def run(self, channel: Channel, folder: str, arguments: List[str], text_in: bytes, seconds: float,
            environment: List[List[str]], as_owner: bool) -> List[Any]:
        FENCE.check_run(folder, arguments)
        return run_program(folder, arguments, text_in, seconds, environment, as_owner)

    def serve(self, channel: Channel, folder: str, arguments: List[str]) -> None:
        """The port, or why there is none; then it goes on until nobody wants it any more."""
        try:
            FENCE.check_run(folder, arguments)
            with serving(folder, arguments) as port:
                FENCE.ports.add(port)
                channel.send(port)
                wait_for_end(channel)
        except NotServed as error:
            channel.send(str(error))

    # --- databases

    def sqlite(self, channel: Channel, path: str, mode: str, wait: float) -> None:
        FENCE.check(path)
        if mode != "new":
            wrong = _no_database(path)
            if wrong:
                channel.send(wrong)
                wait_for_end(channel)
                return
        session = Sqlite(path, mode, wait)
        session.connection.set_authorizer(FENCE.attached)
        with closing(session.connection):
            channel.send("open")
            session.serve(channel)

    def connect(self, channel: Channel, host: str, port: int, path: str) -> None:
        """Everything to a server and back."""
        FENCE.check_server(host, port, path)
        if path:
            made = socket.socket(socket.AF_UNIX)
            made.settimeout(20)
            made.connect(path)
        else:
            made = socket.create_connection((host, port), 20)
            made.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        made.settimeout(None)
        channel.send(True)
        pump(channel, made)


_SAID = 1 << 16  # bytes, at most, of what a program says


def run_program(folder: str, arguments: Sequence[str], text_in: bytes, seconds: float,
                environment: Sequence[Sequence[str]], as_owner: bool) -> List[Any]:
    """Run a program. Returns its exit status (None: it could not be run to its end), why not, what it said, and its
    errors, the last of each."""
    owner = os.stat(folder)
    known: Dict[str, str] = {name: value for name, value in environment}
    known.setdefault("PATH", os.environ.get("PATH", os.defpath))

    def first() -> None:
        os.setsid()
        if as_owner and os.geteuid() == 0 and owner.st_uid:
            os.setgroups([])
            os.setgid(owner.st_gid)
            os.setuid(owner.st_uid)

    with tempfile.TemporaryFile() as output, tempfile.TemporaryFile() as errors, tempfile.TemporaryFile() as asked:
        asked.write(text_in)
        asked.seek(0)
        status: Optional[int] = None
        why = ""
        try:
            process = subprocess.Popen(list(arguments), stdin=asked, stdout=output, stderr=errors, cwd=folder,  # noqa: S603
                                       env=known, preexec_fn=first)
            try:
                status = process.wait(seconds)
            except subprocess.TimeoutExpired:
                why = "it did not end within %d seconds" % seconds
            finally:
                if process.poll() is None:
                    try:
                        os.killpg(process.pid, signal.SIGKILL)
                    except OSError:
                        process.kill()
                    process.wait()
        except (OSError, subprocess.SubprocessError, ValueError) as error:
            why = "it could not be run (%s)" % (getattr(error, "strerror", None) or type(error).__name__)
        ends = []
        for file in (output, errors):
            file.seek(max(0, file.seek(0, os.SEEK_END) - _SAID))
            ends.append(file.read(_SAID))
        return [status, why, *ends]


_SERVING = 30.0  # seconds, until a program answers
_ENDING = 5.0
_DIES_WITH_PARENT = 1  # PR_SET_PDEATHSIG of prctl(2)


class NotServed(Exception):
    """Why a program does not answer on a port."""


def free_port() -> int:
    """A port of this machine's that nobody listens on."""
    one = socket.socket()
    try:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])
    finally:
        one.close()


@contextmanager
def serving(folder: str, arguments: Sequence[str]) -> Iterator[int]:
    """Let a program answer on a free port of this machine while a block lasts, as whoever owns the folder, and never as
    root where it can be helped. In its arguments stand `{address}`, `{host}` and `{port}`. Gives the port. Raises
    NotServed. It ends with whoever started it, however that ends."""
    port = free_port()
    words = []
    for argument in arguments:
        for word, value in (("{address}", "127.0.0.1:%d" % port), ("{host}", "127.0.0.1"), ("{port}", str(port))):
            argument = argument.replace(word, value)
        words.append(argument)
    with tempfile.TemporaryFile() as errors:
        process = _started(words, folder, errors.fileno())
        try:
            _wait_for(process, port, words[0], errors.fileno())
            yield port
        finally:
            _end(process)


def _started(arguments: Sequence[str], folder: str, output: int) -> "subprocess.Popen[bytes]":
    prctl = getattr(ctypes.CDLL(None, use_errno=True), "prctl", None)

    def first() -> None:
        os.setsid()
        if os.geteuid() == 0 and owner.st_uid:
            os.setgroups([])
            os.setgid(owner.st_gid)
            os.setuid(owner.st_uid)
        if prctl is not None:  # if this is killed, nobody else ends it
            prctl(_DIES_WITH_PARENT, signal.SIGKILL)

    known = {name: os.environ[name] for name in ("PATH", "LANG", "LC_ALL", "TZ") if name in os.environ}
    known.setdefault("PATH", os.defpath)
    known["HOME"] = folder
    try:
        owner = os.stat(folder)
        return subprocess.Popen(list(arguments), stdin=subprocess.DEVNULL, stdout=output, stderr=output,  # noqa: S603
                                cwd=folder, env=known, preexec_fn=first)
    except (OSError, subprocess.SubprocessError, ValueError) as error:
        why = getattr(error, "strerror", None) or type(error).__name__
        raise NotServed("%s could not be run (%s)" % (arguments[0], why)) from error


def _wait_for(process: "subprocess.Popen[bytes]", port: int, program: str, output: int) -> None:
    until = time.monotonic() + _SERVING
    while time.monotonic() < until:
        if process.poll() is not None:
            raise NotServed("%s ended with status %s%s" % (program, process.returncode, _last_line(output)))
        try:
            socket.create_connection(("127.0.0.1", port), 1).close()
            return
        except OSError:
            time.sleep(0.05)
    raise NotServed("%s does not listen on port %d after %.0f s%s" % (program, port, _SERVING, _last_line(output)))


def _last_line(output: int) -> str:
    """The last line that a program printed."""
    size = os.fstat(output).st_size
    lines = os.pread(output, 4000, max(0, size - 4000)).decode("utf-8", "replace").strip().splitlines()
    return ": %s" % lines[-1][:200] if lines else ""


def _end(process: "subprocess.Popen[bytes]") -> None:
    for sign in (signal.SIGTERM, signal.SIGKILL):
        try:
            os.killpg(process.pid, sign)
        except OSError:
            pass
        try:
            process.wait(_ENDING)
        except subprocess.TimeoutExpired:
            continue
        if sign is signal.SIGTERM:
            try:  # what it started itself
                os.killpg(process.pid, signal.SIGKILL)
            except OSError:
                pass
        return


def wait_for_end(channel: Channel) -> None:
    """Wait until the other side says that no message follows."""
    try:
        while True:
            channel.receive()
    except EOFError:
        pass


def pump(channel: Channel, made: socket.socket) -> None:
    """Carry what comes from a socket to a channel, and the other way round, until either ends."""
    def back() -> None:
        try:
            while True:
                made.sendall(channel.receive())
        except (EOFError, OSError, WireError, Failed):
            pass
        try:
            made.shutdown(socket.SHUT_RDWR)
        except OSError:
            pass

    thread = threading.Thread(target=back, daemon=True)
    thread.start()
    try:
        while True:
            data = made.recv(FRAME - 16)
            if not data:
                break
            channel.send(data)
    except (OSError, WireError, Cancelled):
        pass
    finally:
        try:
            channel.no_more()
        except WireError:
            pass
        thread.join(5)
        made.close()


def keep_in_touch(wire: Wire, gone: Callable[[], None]) -> None:
    """Say now and then that this side is there, and stop when the other is not."""
    while not wire.broken:
        time.sleep(SILENCE / 6)
        try:
            wire.frame(0, PING, memoryview(b""))
        except WireError:
            return
        if time.monotonic() - wire.heard > SILENCE:
            gone()
            return


def main() -> None:
    os.umask(0o077)
    wire = Wire(sys.stdin.buffer, sys.stdout.buffer, Answers())
    sys.stdout.buffer.write(GREETING)
    sys.stdout.buffer.flush()
    threading.Thread(target=keep_in_touch, args=(wire, lambda: os._exit(1)), daemon=True).start()
    wire.run()
    os._exit(0)  # locks, transactions and open files end with the process


if __name__ == "__main__":
    main()
