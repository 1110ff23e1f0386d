"""A site's lock in its server, and the table in which it says what is unfinished."""

from __future__ import annotations

from contextlib import suppress
from typing import Any

from nostos.core.database.engines import Location
from nostos.core.database.held_lock import MARKS, WAIT_SECONDS, HeldLock
from nostos.core.database.mysql import connect
from nostos.core.database.mysql.connection import MysqlDatabase
from nostos.core.database.mysql.session import MysqlSession
from nostos.core.errors import LockHeld


class MysqlLock(HeldLock[MysqlDatabase]):
    """A lock by name, GET_LOCK."""

    why = "Try again; if it stays so, ask the host why it ends connections."

    def __init__(self, location: Location) -> None:
        self.errors = connect.driver().MySQLError
        super().__init__(location)

    def _open(self) -> MysqlDatabase:
        return MysqlDatabase(self.location)

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
    def _name(self) -> str:
        return "nostos:" + self.digest().hex()[:32]

    def _lock(self) -> None:
        got = self._run("SELECT GET_LOCK(%s, %s)", (self._name, WAIT_SECONDS))[0][0]
        if str(got) == "1":
            return
        who = "on another machine"
        with suppress(self.errors, IndexError):
            number = self._run("SELECT IS_USED_LOCK(%s)", (self._name,))[0][0]
            user, host = self._run("SELECT user, host FROM information_schema.processlist WHERE id = %s", (number,))[0]
            who = f"connection {number} of {user} from {host}"
        raise LockHeld(who)

    def _holds(self) -> bool:
        return str(self._run("SELECT IS_USED_LOCK(%s) = CONNECTION_ID()", (self._name,))[0][0]) == "1"

    def _write(self, operation: str, said: str) -> None:
        self._run(f"CREATE TABLE IF NOT EXISTS {self._place} (operation VARCHAR(64) PRIMARY KEY, said TEXT NOT NULL) "
                  "ENGINE=InnoDB")
        self._run(f"REPLACE INTO {self._place} VALUES (%s, %s)", (operation, said))


def _there(database: MysqlSession) -> bool:
    return bool(database.run("SELECT 1 FROM information_schema.tables WHERE table_schema = %s AND table_name = %s",
                             (database.name, database.prefix + MARKS)))


def unfinished(database: MysqlSession) -> list[str]:
    """What is written down as unfinished."""
    return [str(said) for (said,) in database.run(f"SELECT said FROM {database.real(MARKS)}")] if _there(
        database) else []
