"""A site's lock in its server, and the table in which it says what is unfinished."""

from __future__ import annotations

from time import monotonic, sleep
from typing import Any

import psycopg

from nostos.core.database.held_lock import MARKS, WAIT_SECONDS, HeldLock
from nostos.core.database.postgresql.connection import PostgresDatabase
from nostos.core.database.postgresql.session import PostgresSession
from nostos.core.errors import LockHeld


class PostgresLock(HeldLock[PostgresDatabase]):
    """An advisory lock, of the session."""

    errors = psycopg.Error
    why = "Try again; if it stays so, ask the host why it ends connections."

    def _open(self) -> PostgresDatabase:
        return PostgresDatabase(self.location)

    def _run(self, sql: str, values: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
        return self.database.run(sql, values)

    def _there(self) -> bool:
        return _there(self.database)

    def _said(self) -> list[str]:
        return unfinished(self.database)

    @property
    def _place(self) -> str:
        return self.database.real(MARKS)

    @property
    def _number(self) -> int:
        schema = str(self.location.url.query.get("schema", ""))
        return int.from_bytes(self.digest("nostos", schema)[:8], "big", signed=True)

    def _lock(self) -> None:
        until = monotonic() + WAIT_SECONDS
        while not self._run("SELECT pg_try_advisory_lock(%s)", (self._number,))[0][0]:
            if monotonic() > until:
                raise LockHeld("on another machine, or by another connection")
            sleep(0.2)

    def _holds(self) -> bool:
        return bool(self._run("SELECT 1 FROM pg_locks WHERE locktype = 'advisory' AND pid = pg_backend_pid() "
                              "AND granted AND (classid::bigint << 32) | objid::bigint = %s", (self._number,)))

    def _write(self, operation: str, said: str) -> None:
        self._run(f"CREATE TABLE IF NOT EXISTS {self._place} (operation varchar(64) PRIMARY KEY, said text NOT NULL)")
        self._run(f"INSERT INTO {self._place} VALUES (%s, %s) ON CONFLICT (operation) DO UPDATE "
                  "SET said = EXCLUDED.said", (operation, said))


def _there(database: PostgresSession) -> bool:
    return bool(database.run("SELECT 1 FROM pg_class WHERE relnamespace = current_schema()::regnamespace "
                             "AND relname = %s", (database.prefix + MARKS,)))


def unfinished(database: PostgresSession) -> list[str]:
    """What is written down as unfinished."""
    return [str(said) for (said,) in database.run(f"SELECT said FROM {database.real(MARKS)}")] if _there(
        database) else []
