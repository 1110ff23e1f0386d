"""Copying the rows of a whole schema from one connection to another, as the server writes them and reads them."""

from __future__ import annotations

import queue
import threading
from collections.abc import Sequence
from contextlib import suppress

import psycopg

from nostos.core.database.postgresql.reflection import quote
from nostos.core.database.postgresql.writing import PostgresWriting
from nostos.core.database.protocol import Block, InsideCopy
from nostos.core.database.schema import Table

_TEXTS = ("text", "varchar", "citext", "json", "jsonb")


class PostgresPipeCopy(InsideCopy):
    """COPY out of the one and into the other, a table at a time, the largest first; another connection adds up what
    arrived. The source is read in the very snapshot that the copy is made of."""

    def __init__(self, target: PostgresWriting, source: PostgresWriting, tables: Sequence[Table],
                 replaced: Sequence[tuple[str, str]]) -> None:
        self._found: dict[str, dict[int, Block] | None] = {}
        self._ready = {t.name: threading.Event() for t in tables}
        self._arrived: queue.SimpleQueue[Table | None] = queue.SimpleQueue()
        self._stop = False
        self._replaced = replaced
        sizes = source.sizes()
        order = sorted(tables, key=lambda t: -sizes.get(t.name, (0, 0))[1])
        self._databases = [type(source)(source.location, readonly=True), type(target)(target.location),
                           type(target)(target.location)]
        read, write, add_up = self._databases
        snapshot = str(source.run("SELECT pg_export_snapshot()")[0][0])
        read.run("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY")
        read.run(f"SET TRANSACTION SNAPSHOT '{snapshot}'")
        self._threads = [threading.Thread(target=self._copy, args=(read, write, order), daemon=True),
                         threading.Thread(target=self._add_up, args=(add_up,), daemon=True)]
        for thread in self._threads:
            thread.start()

    def _copy(self, read: PostgresWriting, write: PostgresWriting, tables: list[Table]) -> None:
        for table in tables:
            try:
                if self._stop:
                    raise InterruptedError
                self._one(read, write, table)
                self._arrived.put(table)
            except (psycopg.Error, InterruptedError):
                self._settle(table.name, None)
        self._arrived.put(None)

    def _one(self, read: PostgresWriting, write: PostgresWriting, table: Table) -> None:
        names = ", ".join(quote(c) for c in table.stored)
        values = ", ".join(self._guess(read, table, c) for c in table.stored)
        with read._connection.cursor() as source, write._connection.cursor() as target, source.copy(
                f"COPY (SELECT {values} FROM {read.real(table.name)}) TO STDOUT".encode()) as out, target.copy(
                f"COPY {write.real(table.name)} ({names}) FROM STDIN".encode()) as into:
            for piece in out:
                if self._stop:
                    raise InterruptedError
                into.write(piece)

    def _guess(self, read: PostgresWriting, table: Table, name: str) -> str:
        """SQL for a column as staging most likely has it. What is wrong is found and mended later."""
        column, sql = table.column(name), quote(name)
        if column is None or column.charset not in _TEXTS or name in table.key or not self._replaced:
            return sql
        base = column.charset
        plain = f"{sql}::text"
        for old, new in self._replaced:
            plain = read.text(f"replace({plain}, %s, %s)", (old, new))
        return plain if base in ("text", "varchar") else f"({plain})::{base}"

    def _add_up(self, database: PostgresWriting) -> None:
        while (table := self._arrived.get()) is not None:
            found = None
            with suppress(psycopg.Error):
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
        for thread in self._threads:
            thread.join()
        for database in self._databases:
            database.close()
