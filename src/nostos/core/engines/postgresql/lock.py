"""A site's lock in its server, and the table in which it says what is unfinished."""

from __future__ import annotations

from time import monotonic, sleep

import psycopg

from nostos.core.engines.held_lock import MARKS, WAIT_SECONDS, HeldLock
from nostos.core.engines.postgresql.connection import PostgresDatabase
from nostos.core.errors import LockHeld, SiteError


class PostgresLock(HeldLock[PostgresDatabase]):
    """An advisory lock, of the session."""

    errors = psycopg.Error

    def _open(self) -> PostgresDatabase:
        return PostgresDatabase(self.location)

    @property
    def _number(self) -> int:
        schema = str(self.location.url.query.get("schema", ""))
        return int.from_bytes(self.digest("nostos", schema)[:8], "big", signed=True)

    def _lock(self) -> None:
        until = monotonic() + WAIT_SECONDS
        while not self.database.run("SELECT pg_try_advisory_lock(%s)", (self._number,))[0][0]:
            if monotonic() > until:
                raise LockHeld("on another machine, or by another connection")
            sleep(0.2)

    def _holds(self) -> bool:
        return bool(self.database.run("SELECT 1 FROM pg_locks WHERE locktype = 'advisory' AND pid = pg_backend_pid() "
                                      "AND granted AND (classid::bigint << 32) | objid::bigint = %s", (self._number,)))

    def _write(self, operation: str, text: str) -> None:
        place = self.database.real(MARKS)
        try:
            self.database.run(f"CREATE TABLE IF NOT EXISTS {place} (operation varchar(64) PRIMARY KEY, "
                              "said text NOT NULL)")
        except psycopg.errors.InsufficientPrivilege as error:
            raise SiteError(f"The user of {self.location.shown} may not make tables in its schema.",
                            next_step="Ask for GRANT CREATE ON SCHEMA, of that which the tables are in.") from error
        self.database.run(f"INSERT INTO {place} VALUES (%s, %s) ON CONFLICT (operation) DO UPDATE "
                          "SET said = EXCLUDED.said", (operation, text))
