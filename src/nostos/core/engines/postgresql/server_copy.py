"""Copying the rows of a whole schema: inside the database where both are in one, else from one connection to another,
as the server writes them and reads them."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import closing, suppress

import psycopg

from nostos.core.database.schema import Table
from nostos.core.engines.postgresql.copy_out import copied
from nostos.core.engines.postgresql.reflection import quote
from nostos.core.engines.postgresql.writing import PostgresWriting
from nostos.core.engines.server_copy import ServerCopy

_AT_ONCE = 1 << 18  # bytes
_TEXTS = ("text", "varchar", "citext", "json", "jsonb")


class PostgresServerCopy(ServerCopy[PostgresWriting]):
    """INSERT ... SELECT, or COPY out of the one and into the other. The source is read in the very snapshot that the
    copy is made of."""

    def __init__(self, target: PostgresWriting, source: PostgresWriting, tables: Sequence[Table],
                 replaced: Sequence[tuple[str, str]], seed: int | None, quick: bool) -> None:
        read = type(source)(source.location, readonly=True)
        self._snapshot = f"SET TRANSACTION SNAPSHOT '{source.run('SELECT pg_export_snapshot()')[0][0]}'"
        self._within = target.name == source.name and target.location.on_server_of(source.location)
        read.run("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY")
        read.run(self._snapshot)
        self._read, self._write = read, type(target)(target.location)
        super().__init__(source, tables, replaced, psycopg.Error, (read, self._write, type(target)(target.location)),
                         seed, quick)

    def _one(self, table: Table) -> None:
        read, write = self._read, self._write
        names = ", ".join(quote(c) for c in table.stored)
        values = ", ".join(self._guess(table, c) for c in table.stored)
        if self._within:
            with suppress(psycopg.Error):  # a type of the schema's own, of which the copy has another: as text, then
                self._inside(f"INSERT INTO {write.real(table.name)} ({names}) OVERRIDING SYSTEM VALUE "
                             f"SELECT {values} FROM {read.held(table.name)}")
                return
        out = copied(read._connection, f"SELECT {values} FROM {read.held(table.name)}")
        with closing(out), write._connection.cursor() as target, target.copy(
                f"COPY {write.real(table.name)} ({names}) FROM STDIN".encode()) as into:
            held: list[bytes] = []
            size = 0
            for piece in out:  # a row each, and a call for each would keep what else is at work here waiting
                held.append(piece)
                size += len(piece)
                if size > _AT_ONCE:
                    if self._stop:
                        raise InterruptedError
                    into.write(b"".join(held))
                    held, size = [], 0
            into.write(b"".join(held))

    def _inside(self, statement: str) -> None:
        """Run what writes to the copy what the snapshot has."""
        self._write.run("BEGIN ISOLATION LEVEL REPEATABLE READ")
        try:
            self._write.run(self._snapshot)
            self._write.run(statement)
            self._write.run("COMMIT")
        except BaseException:
            self._write.run("ROLLBACK")
            raise

    def _guess(self, table: Table, name: str) -> str:
        """SQL for a column as staging most likely has it. What is wrong is found and mended later."""
        column, sql = table.column(name), quote(name)
        if column is None or column.charset not in _TEXTS or name in table.key or not self._replaced:
            return sql
        base = column.charset
        plain = f"{sql}::text"
        for old, new in self._replaced:
            plain = self._read.text(f"replace({plain}, %s, %s)", (old, new))
        return plain if base in ("text", "varchar") else f"({plain})::{base}"
