"""The connection to another machine: one for each, for all that is done there."""

from __future__ import annotations

import shutil
import socket
import tempfile
import threading
import weakref
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any, BinaryIO, cast

from nostos.core.errors import HostError, HostLost, LockHeld, SiteError, refused_path
from nostos.core.hosts.helper import (
    CALL,
    ERROR,
    MESSAGE,
    RESULT,
    SQUEEZED,
    Channel,
    Failed,
    Wire,
    WireError,
    keep_in_touch,
    pump,
)
from nostos.core.hosts.helper import unpack as unpack_counting
from nostos.core.hosts.ssh import Started
from nostos.core.patterns import clean
from nostos.core.records import dataclass
from nostos.core.values.packed import pack, unpack

_SOCKETS = ("/run/mysqld/mysqld.sock", "/var/run/mysqld/mysqld.sock", "/var/lib/mysql/mysql.sock",
            "/tmp/mysql.sock")  # noqa: S108


_LARGE = 1 << 21  # bytes of a message
PATIENCE = 120.0  # seconds, for an answer that takes no work there: a host that only says that it is there gives none
_SOON = frozenset(("about", "real", "look", "foresee", "content", "variable", "status", "names", "link", "led", "owner",
                   "within", "may_write", "free"))
_SAID = 2000  # letters of an error


class NearWire(Wire):
    """The same frames, with a faster packer. speaking: done before anything is said."""

    speaking: Callable[[], None] = staticmethod(lambda: None)
    trips = 0  # how often something was said after something was heard: what a slow line makes one wait for
    _heard = True

    def frame(self, number: int, kind: int, data: memoryview) -> None:
        if kind & ~SQUEEZED in (CALL, MESSAGE):
            self.speaking()
            self.trips += self._heard
            self._heard = False
        super().frame(number, kind, data)

    def _came(self, number: int, kind: int, data: bytes) -> None:
        self._heard = self._heard or kind & ~SQUEEZED in (MESSAGE, RESULT, ERROR)
        super()._came(number, kind, data)

    @staticmethod
    def pack(value: Any) -> bytes:
        return pack(value)

    @staticmethod
    def unpack(data: bytes) -> Any:
        try:
            # What is large is read by the reader that counts what it makes: a byte may stand for a list.
            return unpack(data) if len(data) < _LARGE else unpack_counting(data)
        except Exception:
            raise WireError("a message cannot be read") from None


Server = tuple[str, int, str]  # a host, a port, and a socket's path where it has one


def sought(host: str, port: int, path: str, sockets: Sequence[str] = _SOCKETS) -> list[Server]:
    """Where a server is looked for, as its machine sees it, in this order."""
    return [(host, port, path), *(("", 0, p) for p in sockets if not path and host == "localhost")]


@dataclass(frozen=True)
class Fence:
    """What of a far machine may be touched. folders: with all below them, and what Nostos lays down beside them. files:
    that may be read. programs: by name. commands: whole. servers: of databases: host, port, and socket's path."""

    folders: frozenset[str] = frozenset()
    files: frozenset[str] = frozenset()
    programs: frozenset[str] = frozenset()
    commands: frozenset[tuple[str, ...]] = frozenset()
    servers: frozenset[Server] = frozenset()


@dataclass(frozen=True)
class About:
    """What a machine is. python: its version. user, group, groups: who the helper runs as."""

    python: tuple[int, ...]
    user: int
    group: int
    groups: tuple[int, ...]
    home: str
    name: str
    sqlite: str


class Connection:
    """A helper on another machine, and what it answers. Raises HostLost once the connection has ended."""

    def __init__(self, host: str) -> None:
        self.host = host
        self.locks = 0  # held through this connection
        self.fence: Fence | None = None  # what of that machine may be touched; None: all that its user may
        self._started = Started(host)
        self.wire = NearWire(cast(BinaryIO, self._started.read), cast(BinaryIO, self._started.write))
        self.wire.speaking = self.speaking
        self._reader = threading.Thread(target=self.wire.run, daemon=True)
        self._reader.start()
        threading.Thread(target=keep_in_touch, args=(self.wire, self._started.process.kill), daemon=True).start()
        self._forwards: dict[tuple[Server, ...], Forward] = {}
        self._finish = weakref.finalize(self, self._started.stop)
        try:
            python, user, group, groups, home, name, sqlite = self.ask("about")
            self.about = About(tuple(python), int(user), int(group), tuple(groups), str(home), str(name), str(sqlite))
        except (TypeError, ValueError):
            self.close()
            raise HostError(f"{host} does not say what it is.", next_step="Try again.") from None

    def speaking(self) -> None:
        """Something is about to be said to the helper: where tests break the connection."""

    @property
    def lost(self) -> bool:
        """Whether the connection has broken; it is not mended."""
        return bool(self.wire.broken)

    def close(self) -> None:
        """End the helper there, and the ssh that leads to it."""
        for forward in self._forwards.values():
            forward.close()
        self.wire.end("it was closed")
        self._finish()

    def ask(self, *words: Any) -> Any:
        """Call, and wait for the answer. Raises what the other side says is wrong, as this machine would."""
        with self.explaining():
            channel = self.wire.call(*words)
            if words[0] in _SOON or (words[0] == "tree" and words[2] in _SOON):
                channel.patience = PATIENCE
            return channel.answer()

    @contextmanager
    def talk(self, *words: Any) -> Iterator[Channel]:
        """A call whose messages go on; what is left of it when the block ends is not wanted any more."""
        with self.explaining():
            channel = self.wire.call(*words)
            try:
                yield channel
            finally:
                if not channel.ended:
                    with suppress(WireError):
                        channel.cancel()

    def messages(self, *words: Any) -> Iterator[Any]:
        """Call, and give every message until the answer."""
        with self.talk(*words) as channel, suppress(EOFError):
            while True:
                yield channel.receive()

    @contextmanager
    def explaining(self) -> Iterator[None]:
        """Errors of the wire as errors that people can read, those of the other side as what they are."""
        try:
            yield
        except Failed as failed:
            raise self.raised(failed) from None
        except WireError as error:
            self.wire.end(str(error))
            raise HostLost(f"The connection to {self.host} was lost: {error}.",
                           left="What was under way there may be half done.",
                           next_step="See that it can be reached, then run `nostos recover`.") from None

    def raised(self, failed: Failed) -> BaseException:
        """What the other side says is wrong, as this machine would raise it."""
        details = [d if isinstance(d, int) else clean(str(d)[:_SAID]) for d in failed.details]
        match failed.reason, details:
            case "os", [int(number), str(text), *rest]:
                return OSError(number, text, *rest[:1])
            case "held", [str(who), *_]:
                return LockHeld(who)
            case "sqlite", [str(kind), str(text), *_]:
                return SiteError(f"The database on {self.host} cannot be used: {text} ({kind}).",
                                 next_step="Check the file and your rights to it.")
        return refused_path(failed.reason, *details) or HostError(
            f"{self.host} refused what it was asked: {failed.reason} {details}.",
            next_step="Please report it, with what you ran.")

    def put_up(self, fence: Fence) -> None:
        """Say what of that machine may be touched from now on: the helper refuses the rest, whoever asks."""
        self.ask("fence", sorted(fence.folders), sorted(fence.files), sorted(fence.programs),
                 [list(c) for c in sorted(fence.commands)], [list(s) for s in sorted(fence.servers)])
        self.fence = fence

    def forward(self, *wanted: Server, name: str = "s") -> Forward:
        """A way to a server, by where it is looked for on that machine. name: of the socket here."""
        forwarding = self._forwards.get(wanted)
        if forwarding is None:
            forwarding = self._forwards[wanted] = Forward(self, wanted, name)
        return forwarding

    @contextmanager
    def port(self, number: int) -> Iterator[int]:
        """A loopback port of this machine's that leads to one of that machine's, while a block lasts."""
        way = PortForward(self, number)
        try:
            yield way.port
        finally:
            way.close()


class Forward:
    """A socket on this machine, in a private folder, that leads to a server of another. failed: why the last attempt
    to reach it did not succeed; empty if it did."""

    def __init__(self, connection: Connection, wanted: Sequence[Server], name: str) -> None:
        self.failed = ""
        self._connection = connection
        self._wanted = [*wanted]
        self.folder = tempfile.mkdtemp(prefix="nostos-")  # for its owner alone
        self.path = str(Path(self.folder) / name)
        self._listening = socket.socket(socket.AF_UNIX)
        self._listening.bind(self.path)
        self._listening.listen(16)
        self._remove = weakref.finalize(self, shutil.rmtree, self.folder, True)
        threading.Thread(target=self._accept, daemon=True).start()

    def close(self) -> None:
        self._listening.close()
        self._remove()

    def _accept(self) -> None:
        with suppress(OSError):
            while True:
                made, _ = self._listening.accept()
                threading.Thread(target=self._carry, args=(made,), daemon=True).start()

    def _carry(self, made: socket.socket) -> None:
        try:
            self._reached(made)
        except OSError as error:
            self.failed = error.strerror or str(error)
        except (HostError, SiteError) as error:
            self.failed = error.what
        finally:
            made.close()

    def _reached(self, made: socket.socket) -> None:
        first: OSError | None = None
        for host, port, path in self._wanted:
            try:
                with self._connection.talk("connect", host, port, path) as channel:
                    channel.receive()
                    self.failed = ""
                    self._wanted = [(host, port, path)]
                    pump(channel, made)
                    return
            except OSError as error:
                first = first or error
        if first is not None:
            raise first


class PortForward(Forward):
    """A port instead of a socket's path, for what speaks to ports alone."""

    def __init__(self, connection: Connection, number: int) -> None:
        self.failed = ""
        self._connection = connection
        self._wanted = [("127.0.0.1", number, "")]
        self._listening = socket.create_server(("127.0.0.1", 0), backlog=16)
        self.port = int(self._listening.getsockname()[1])
        threading.Thread(target=self._accept, daemon=True).start()

    def close(self) -> None:
        self._listening.close()


_open: dict[str, Connection] = {}
_opening = threading.Lock()


def reach(host: str) -> Connection:
    """The connection to a host, as ssh is given it; one for the whole program. One that was lost is made anew, unless
    something is still held through it. Raises HostError."""
    with _opening:
        connection = _open.get(host)
        if connection is not None and connection.lost:
            if connection.locks:
                raise HostLost(f"The connection to {host} was lost.", left="What was under way there may be half done.",
                               next_step="See that it can be reached, then run `nostos recover`.")
            connection.close()
            connection = None
        if connection is None:
            connection = _open[host] = Connection(host)
        return connection


def let_go(connection: Connection) -> None:
    """End a connection that has a fence: what comes next may be of another site. Another is made when it is needed."""
    with _opening:
        if _open.get(connection.host) is connection and not connection.locks:
            _before[connection.host] = traffic()[connection.host]
            del _open[connection.host]
            connection.close()


def is_open(host: str) -> bool:
    """Whether there is a connection to a host now."""
    connection = _open.get(host)
    return connection is not None and not connection.lost


def close_all() -> None:
    """End every connection."""
    with _opening:
        for connection in _open.values():
            connection.close()
        _open.clear()
        _before.clear()


@dataclass(frozen=True)
class Traffic:
    """What went over a connection: bytes there, bytes here, and trips."""

    sent: int
    received: int
    trips: int


def traffic() -> dict[str, Traffic]:
    """What went over each connection so far, by hosts."""
    before = dict(_before)
    for host, c in _open.items():
        old = _before.get(host, Traffic(0, 0, 0))
        before[host] = Traffic(old.sent + c.wire.sent, old.received + c.wire.received, old.trips + c.wire.trips)
    return before


_before: dict[str, Traffic] = {}  # what went over connections that were let go

