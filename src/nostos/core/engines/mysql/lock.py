"""A site's lock in its server, and the table in which it says what is unfinished."""

from __future__ import annotations

from contextlib import suppress

from nostos.core.database.registry import Location
from nostos.core.engines.held_lock import MARKS, WAIT_SECONDS, HeldLock
from nostos.core.engines.mysql import connect
from nostos.core.engines.mysql.connection import MysqlDatabase
from nostos.core.errors import LockHeld


class MysqlLock(HeldLock[MysqlDatabase]):
    """A lock by name, GET_LOCK."""

    def __init__(self, location: Location) -> None:
        self.errors = connect.driver().MySQLError
        super().__init__(location)

    def _open(self) -> MysqlDatabase:
        return MysqlDatabase(self.location)

    @property
    def _name(self) -> str:
        return "nostos:" + self.digest().hex()[:32]

    def _lock(self) -> None:
        got = self.database.run("SELECT GET_LOCK(%s, %s)", (self._name, WAIT_SECONDS))[0][0]
        if str(got) == "1":
            return
        who = "on another machine"
        with suppress(self.errors, IndexError):
            number = self.database.run("SELECT IS_USED_LOCK(%s)", (self._name,))[0][0]
            user, host = self.database.run("SELECT user, host FROM information_schema.processlist WHERE id = %s",
                                           (number,))[0]
            who = f"connection {number} of {user} from {host}"
        raise LockHeld(who)

    def _holds(self) -> bool:
        return str(self.database.run("SELECT IS_USED_LOCK(%s) = CONNECTION_ID()", (self._name,))[0][0]) == "1"

    def _write(self, operation: str, text: str) -> None:
        place = self.database.real(MARKS)
        self.database.run(f"CREATE TABLE IF NOT EXISTS {place} (operation VARCHAR(64) PRIMARY KEY, "
                          "said TEXT NOT NULL) ENGINE=InnoDB")
        self.database.run(f"REPLACE INTO {place} VALUES (%s, %s)", (operation, text))
