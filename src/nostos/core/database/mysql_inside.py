"""Copying tables inside the server that holds both live and staging."""

from __future__ import annotations

import threading
from collections.abc import Sequence

from nostos.core.database.base import InsideCopy
from nostos.core.database.mysql import MysqlDatabase
from nostos.core.database.mysql_schema import quote
from nostos.core.database.schema import Table


class MysqlInsideCopy(InsideCopy):
    """INSERT ... SELECT, a table at a time, on a connection of its own.

    Under READ COMMITTED the rows that are read are not locked, so that nobody who writes to live waits.
    """

    def __init__(self, target: MysqlDatabase, source: MysqlDatabase, tables: Sequence[Table]) -> None:
        self._ready = {t.name: threading.Event() for t in tables}
        self._failed: set[str] = set()
        self._stop = False
        self._database = MysqlDatabase(target.location)
        self._thread = threading.Thread(target=self._copy, args=(source, list(tables)), daemon=True)
        self._thread.start()

    def _copy(self, source: MysqlDatabase, tables: list[Table]) -> None:
        database = self._database
        try:
            database.run("SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED")
            database.run("SET SESSION foreign_key_checks = 0, unique_checks = 0")
        except database.driver.MySQLError:
            self._failed.update(self._ready)
        for table in tables:
            names = ", ".join(quote(c) for c in table.stored)
            try:
                if not self._stop and table.name not in self._failed:
                    database.run(f"INSERT INTO {database.real(table.name)} ({names}) SELECT {names} FROM "
                                  f"{quote(source.name)}.{source.real(table.name)}")
            except database.driver.MySQLError:
                self._failed.add(table.name)  # no right to read across, or a log that forbids it
            self._ready[table.name].set()

    def wait(self, table: str) -> bool:
        self._ready[table].wait()
        return table not in self._failed

    def close(self) -> None:
        self._stop = True
        self._thread.join()
        self._database.close()
