"""Copying the rows of a whole database inside a server."""

from __future__ import annotations

import queue
import threading
from collections.abc import Sequence
from contextlib import suppress

from nostos.core.database.mysql.reflection import quote
from nostos.core.database.mysql.writing import MysqlWriting
from nostos.core.database.protocol import Block, InsideCopy
from nostos.core.database.schema import Table


class MysqlInsideCopy(InsideCopy):
    """INSERT ... SELECT, a table at a time, on a connection of its own; another adds up what arrived.

    Under READ COMMITTED the rows that are read are not locked, so that nobody who writes to live waits. The longest
    table goes first: while the next is copied, the digests of the last are computed.
    """

    def __init__(self, target: MysqlWriting, source: MysqlWriting, tables: Sequence[Table],
                 replaced: Sequence[tuple[str, str]]) -> None:
        self._found: dict[str, dict[int, Block] | None] = {}
        self._ready = {t.name: threading.Event() for t in tables}
        self._arrived: queue.SimpleQueue[Table | None] = queue.SimpleQueue()
        self._stop = False
        self._replaced = replaced
        sizes = source.sizes()
        order = sorted(tables, key=lambda t: -sizes.get(t.name, (0, 0))[1])
        self._databases = [type(target)(target.location), type(target)(target.location)]
        copy, add_up = self._databases
        self._threads = [
            threading.Thread(target=self._copy, args=(copy, source.name, source.prefix, order), daemon=True),
            threading.Thread(target=self._add_up, args=(add_up,), daemon=True)]
        for thread in self._threads:
            thread.start()

    def _copy(self, database: MysqlWriting, name: str, prefix: str, tables: list[Table]) -> None:
        able = True
        try:
            database.run("SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED")
            # Without unique_checks the server would load in bulk, which here costs it twice the work.
            database.run("SET SESSION foreign_key_checks = 0")
        except database.driver.MySQLError:
            able = False
        for table in tables:
            names = ", ".join(quote(c) for c in table.stored)
            guesses = [self._guess(table, c) for c in table.stored]
            values = ", ".join(sql for sql, _ in guesses)
            try:
                if not able or self._stop:
                    raise InterruptedError
                database.run(f"INSERT INTO {database.real(table.name)} ({names}) SELECT {values} FROM "
                             f"{quote(name)}.{quote(prefix + table.name)}", [v for _, bound in guesses for v in bound])
                self._arrived.put(table)
            except (database.driver.MySQLError, InterruptedError):  # no right to read across, or a log forbids it
                self._settle(table.name, None)
        self._arrived.put(None)

    def _guess(self, table: Table, name: str) -> tuple[str, list[str]]:
        """SQL for a column as staging most likely has it, with its values. What is wrong is found and mended later."""
        column, sql = table.column(name), quote(name)
        text = column is not None and column.charset in ("utf8mb4", "utf8mb3") and (
            column.declared.endswith("text") or column.declared.startswith(("char", "varchar")))
        if not text or name in table.key:
            return sql, []
        for _ in self._replaced:
            sql = f"REPLACE({sql}, %s, %s)"
        return sql, [v for pair in self._replaced for v in pair]

    def _add_up(self, database: MysqlWriting) -> None:
        while (table := self._arrived.get()) is not None:
            found = None
            with suppress(database.driver.MySQLError):
                found = None if self._stop else database.blocks(table, table.stored)
            self._settle(table.name, found)

    def _settle(self, table: str, found: dict[int, Block] | None) -> None:
        self._found[table] = found
        self._ready[table].set()

    def wait(self, table: str) -> dict[int, Block] | None:
        self._ready[table].wait()
        return self._found.pop(table)

    def close(self) -> None:
        self._stop = True
        for thread, database in zip(self._threads, self._databases, strict=True):
            thread.join()
            database.close()
