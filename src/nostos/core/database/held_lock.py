"""A site's lock in its server, held by a connection that is used all the while, lest the server end it; and the table
in which the site says what is unfinished."""

from __future__ import annotations

import hashlib
import threading
from abc import abstractmethod
from contextlib import suppress
from typing import Any, Generic, TypeVar

from nostos.core.database.engines import Location
from nostos.core.database.protocol import Database, ServerLock
from nostos.core.errors import LiveMoved

MARKS = "nostos_unfinished"  # the table in which a site says that something is unfinished; never copied
WAIT_SECONDS = 5
_ALIVE_SECONDS = 20.0  # how often a waiting connection is used
D = TypeVar("D", bound=Database)


class HeldLock(ServerLock, Generic[D]):
    """errors: what the driver raises. why: what to do where the server ends connections."""

    errors: type[Exception]
    why: str

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
    def _run(self, sql: str, values: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]: ...

    @abstractmethod
    def _lock(self) -> None:
        """Take the lock. Raises LockHeld."""

    @abstractmethod
    def _holds(self) -> bool:
        """Whether this connection has it."""

    @abstractmethod
    def _write(self, operation: str, said: str) -> None:
        """Write into the table of marks, which is made if it is not there."""

    @abstractmethod
    def _there(self) -> bool:
        """Whether there is a table of marks."""

    @abstractmethod
    def _said(self) -> list[str]:
        """What is written there."""

    @property
    @abstractmethod
    def _place(self) -> str:
        """The table of marks, quoted."""

    # --- what follows

    def digest(self, *parts: str) -> bytes:
        """What stands for the site's place in the server."""
        place = "\n".join((*parts, str(self.location.url.database), self.location.prefix))
        return hashlib.sha256(place.encode()).digest()

    def _stay(self) -> None:
        while not self._ended.wait(_ALIVE_SECONDS):
            with self._one_at_a_time, suppress(self.errors):
                self._run("SELECT 1")

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
        raise LiveMoved("The database server had ended the connection that held the site.", next_step=self.why)

    def write_mark(self, operation: str, said: str) -> None:
        self.check()
        with self._one_at_a_time:
            self._write(operation, said)

    def remove_mark(self, operation: str) -> None:
        with self._one_at_a_time:
            if not self._ours():  # its connection is gone
                self.database.close()
                self.database = self._open()
            if self._there():
                self._run(f"DELETE FROM {self._place} WHERE operation = %s", (operation,))
                if not self._said():
                    self._run(f"DROP TABLE {self._place}")

    def unfinished(self) -> list[str]:
        with self._one_at_a_time:
            return self._said()

    def close(self) -> None:
        self._ended.set()
        self._thread.join()
        self.database.close()
