"""A site's lock in its server, and the table in which it says what is unfinished.

The lock belongs to a connection and ends with it. A pooler that gives a connection to another after each transaction
would lose it: that is found out, and refused.
"""

from __future__ import annotations

import hashlib
import threading
from contextlib import suppress
from time import monotonic, sleep

import psycopg

from nostos.core.database.engines import Location
from nostos.core.database.postgresql.connection import PostgresDatabase
from nostos.core.database.postgresql.session import MARKS, PostgresSession
from nostos.core.database.protocol import ServerLock
from nostos.core.errors import LiveMoved, LockHeld

_WAIT_SECONDS = 5
_ALIVE_SECONDS = 20.0  # how often a waiting connection is used


class PostgresLock(ServerLock):
    def __init__(self, location: Location) -> None:
        """Raises LockHeld when another has it for some seconds."""
        self.location = location
        place = f"nostos\n{location.url.database}\n{location.url.query.get('schema', '')}\n{location.prefix}"
        self.number = int.from_bytes(hashlib.sha256(place.encode()).digest()[:8], "big", signed=True)
        self._one_at_a_time = threading.Lock()
        self._ended = threading.Event()
        self.database = PostgresDatabase(location)
        try:
            self._lock()
        except BaseException:
            self.database.close()
            raise
        self._thread = threading.Thread(target=self._stay, daemon=True)
        self._thread.start()

    def _lock(self) -> None:
        until = monotonic() + _WAIT_SECONDS
        while not self.database.run("SELECT pg_try_advisory_lock(%s)", (self.number,))[0][0]:
            if monotonic() > until:
                raise LockHeld("on another machine, or by another connection")
            sleep(0.2)

    def _stay(self) -> None:
        while not self._ended.wait(_ALIVE_SECONDS):
            with self._one_at_a_time, suppress(psycopg.Error):
                self.database.run("SELECT 1")

    def _ours(self) -> bool:
        try:
            return bool(self.database.run(
                "SELECT 1 FROM pg_locks WHERE locktype = 'advisory' AND pid = pg_backend_pid() AND granted "
                "AND (classid::bigint << 32) | objid::bigint = %s", (self.number,)))
        except psycopg.Error:
            return False

    def check(self) -> None:
        with self._one_at_a_time:
            if self._ours():
                return
            self.database.close()
            self.database = PostgresDatabase(self.location)
            self._lock()
        raise LiveMoved("The database server had ended the connection that held the site.",
                        next_step="Try again; if it stays so, a pooler may be in between: name the server itself.")

    def write_mark(self, operation: str, said: str) -> None:
        self.check()
        with self._one_at_a_time:
            place = self.database.real(MARKS)
            self.database.run(f"CREATE TABLE IF NOT EXISTS {place} (operation varchar(64) PRIMARY KEY, "
                              "said text NOT NULL)")
            self.database.run(f"INSERT INTO {place} VALUES (%s, %s) ON CONFLICT (operation) DO UPDATE SET said = "
                              "EXCLUDED.said", (operation, said))

    def remove_mark(self, operation: str) -> None:
        with self._one_at_a_time:
            if not self._ours():  # its connection is gone
                self.database.close()
                self.database = PostgresDatabase(self.location)
            if _there(self.database):
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


def _there(database: PostgresSession) -> bool:
    return bool(database.run("SELECT 1 FROM pg_class WHERE relnamespace = current_schema()::regnamespace "
                             "AND relname = %s", (database.prefix + MARKS,)))


def unfinished(database: PostgresSession) -> list[str]:
    """What is written down as unfinished."""
    return [str(said) for (said,) in database.run(f"SELECT said FROM {database.real(MARKS)}")] if _there(
        database) else []
