"""A site's lock in its server, held by a connection that is used all the while, lest the server end it; and the table
in which the site says what is unfinished."""

from __future__ import annotations

import hashlib
import threading
from abc import abstractmethod
from collections.abc import Sequence
from contextlib import suppress
from typing import Any, Generic, Protocol, TypeVar

from nostos.core.database.protocol import ServerLock
from nostos.core.database.registry import Location
from nostos.core.database.schema import Value
from nostos.core.errors import TargetMoved

MARKS = "nostos_unfinished"  # the table in which a site says that something is unfinished; never copied
WAIT_SECONDS = 5
_ALIVE_SECONDS = 20.0  # how often a waiting connection is used


class Session(Protocol):
    """A connection to a server, as far as a lock needs it."""

    def run(self, sql: str, values: Sequence[Value] = ()) -> list[tuple[Any, ...]]: ...

    def real(self, table: str) -> str: ...

    def has_table(self, table: str) -> bool: ...

    def close(self) -> None: ...


D = TypeVar("D", bound=Session)


def unfinished(database: Session) -> list[str]:
    """What a site's table of marks says is unfinished."""
    if not database.has_table(MARKS):
        return []
    return [str(text) for (text,) in database.run(f"SELECT said FROM {database.real(MARKS)}")]


class HeldLock(ServerLock, Generic[D]):
    """errors: what the driver raises."""

    errors: type[Exception]

    def __init__(self, location: Location) -> None:
        """Raises LockHeld when another has it for some seconds."""
        self.location = location
        self._one_at_a_time = threading.Lock()
        self._ended = threading.Event()
        self.database = self._open()
        try:
            self._lock()
        except BaseException:
            self.database.close()
            raise
        self._thread = threading.Thread(target=self._stay, daemon=True)
        self._thread.start()

    # --- what an engine brings

    @abstractmethod
    def _open(self) -> D: ...

    @abstractmethod
    def _lock(self) -> None:
        """Take the lock. Raises LockHeld."""

    @abstractmethod
    def _holds(self) -> bool:
        """Whether this connection has it."""

    @abstractmethod
    def _write(self, operation: str, text: str) -> None:
        """Write into the table of marks, which is made if it is not there."""

    # --- what follows

    def digest(self, *parts: str) -> bytes:
        """What stands for the site's place in the server."""
        place = "\n".join((*parts, str(self.location.url.database), self.location.prefix))
        return hashlib.sha256(place.encode()).digest()

    def _stay(self) -> None:
        while not self._ended.wait(_ALIVE_SECONDS):
            with self._one_at_a_time, suppress(self.errors):
                self.database.run("SELECT 1")

    def _ours(self) -> bool:
        try:
            return self._holds()
        except self.errors:
            return False

    def check(self) -> None:
        with self._one_at_a_time:
            if self._ours():
                return
            self.database.close()
            self.database = self._open()
            self._lock()
        raise TargetMoved("The database server had ended the connection that held the site.",
                        next_step="Try again; if it stays so, ask the host why it ends connections.")

    def write_mark(self, operation: str, text: str) -> None:
        self.check()
        with self._one_at_a_time:
            self._write(operation, text)

    def remove_mark(self, operation: str) -> None:
        with self._one_at_a_time:
            if not self._ours():  # its connection is gone
                self.database.close()
                self.database = self._open()
            if self.database.has_table(MARKS):
                self.database.run(f"DELETE FROM {self.database.real(MARKS)} WHERE operation = %s", (operation,))
                if not unfinished(self.database):
                    self.database.run(f"DROP TABLE {self.database.real(MARKS)}")

    def unfinished(self) -> list[str]:
        with self._one_at_a_time:
            return unfinished(self.database)

    def close(self) -> None:
        self._ended.set()
        self._thread.join()
        self.database.close()
