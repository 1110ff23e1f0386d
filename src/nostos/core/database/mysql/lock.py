"""A site's lock in its server, and the table in which it says what is unfinished.

The lock ends with its connection, which is used all the while, lest the server end it.
"""

from __future__ import annotations

import hashlib
import threading
from contextlib import suppress

from nostos.core.database.engines import Location
from nostos.core.database.mysql.connection import MysqlDatabase
from nostos.core.database.mysql.session import MARKS, MysqlSession
from nostos.core.database.protocol import ServerLock
from nostos.core.errors import LiveMoved, LockHeld

_WAIT_SECONDS = 5
_ALIVE_SECONDS = 20.0  # how often a waiting connection is used


class MysqlLock(ServerLock):
    def __init__(self, location: Location) -> None:
        """Raises Held when another has it for some seconds."""
        self.location = location
        place = f"{location.url.database}\n{location.prefix}"
        self.name = "nostos:" + hashlib.sha256(place.encode()).hexdigest()[:32]
        self._one_at_a_time = threading.Lock()
        self._ended = threading.Event()
        self.database = MysqlDatabase(location)
        try:
            self._lock()
        except BaseException:
            self.database.close()
            raise
        self._thread = threading.Thread(target=self._stay, daemon=True)
        self._thread.start()

    def _lock(self) -> None:
        got = self.database.run("SELECT GET_LOCK(%s, %s)", (self.name, _WAIT_SECONDS))[0][0]
        if str(got) == "1":
            return
        who = "on another machine"
        with suppress(self.database.driver.MySQLError, IndexError):
            number = self.database.run("SELECT IS_USED_LOCK(%s)", (self.name,))[0][0]
            user, host = self.database.run(
                "SELECT user, host FROM information_schema.processlist WHERE id = %s", (number,))[0]
            who = f"connection {number} of {user} from {host}"
        raise LockHeld(who)

    def _stay(self) -> None:
        while not self._ended.wait(_ALIVE_SECONDS):
            with self._one_at_a_time, suppress(self.database.driver.MySQLError):
                self.database.run("SELECT 1")

    def _ours(self) -> bool:
        try:
            return str(self.database.run("SELECT IS_USED_LOCK(%s) = CONNECTION_ID()", (self.name,))[0][0]) == "1"
        except self.database.driver.MySQLError:
            return False

    def check(self) -> None:
        with self._one_at_a_time:
            if self._ours():
                return
            self.database.close()
            self.database = MysqlDatabase(self.location)
            self._lock()
        raise LiveMoved("The database server had ended the connection that held the site.",
                        next_step="Try again; if it stays so, ask the host why it ends connections.")

    def write_mark(self, operation: str, said: str) -> None:
        self.check()
        with self._one_at_a_time:
            self.database.run(f"CREATE TABLE IF NOT EXISTS {self.database.real(MARKS)} (operation VARCHAR(64) "
                              "PRIMARY KEY, said TEXT NOT NULL) ENGINE=InnoDB")
            self.database.run(f"REPLACE INTO {self.database.real(MARKS)} VALUES (%s, %s)", (operation, said))

    def remove_mark(self, operation: str) -> None:
        with self._one_at_a_time:
            if not self._ours():  # its connection is gone
                self.database.close()
                self.database = MysqlDatabase(self.location)
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


def _there(database: MysqlSession) -> bool:
    return bool(database.run("SELECT 1 FROM information_schema.tables WHERE table_schema = %s AND table_name = %s",
                             (database.name, database.prefix + MARKS)))


def unfinished(database: MysqlSession) -> list[str]:
    """What is written down as unfinished."""
    return [str(said) for (said,) in database.run(f"SELECT said FROM {database.real(MARKS)}")] if _there(
        database) else []
