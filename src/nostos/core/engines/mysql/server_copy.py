"""Copying the rows of a whole database inside a server."""

from __future__ import annotations

from collections.abc import Sequence

from nostos.core.database.schema import Table
from nostos.core.engines.mysql.reflection import quote
from nostos.core.engines.mysql.writing import MysqlWriting
from nostos.core.engines.server_copy import ServerCopy


class MysqlInsideCopy(ServerCopy[MysqlWriting]):
    """INSERT ... SELECT, on a connection of its own. Under READ COMMITTED the rows that are read are not locked, so
    that nobody who writes to live waits."""

    def __init__(self, target: MysqlWriting, source: MysqlWriting, tables: Sequence[Table],
                 replaced: Sequence[tuple[str, str]], seed: int | None, quick: bool) -> None:
        self._name, self._prefix = source.name, source.prefix
        self._write = type(target)(target.location)
        super().__init__(source, tables, replaced, target.driver.MySQLError,
                         (self._write, type(target)(target.location)), seed, quick)

    def _begin(self) -> None:
        self._write.run("SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED")
        # Without unique_checks the server would load in bulk, which here costs it twice the work.
        self._write.run("SET SESSION foreign_key_checks = 0")

    def _one(self, table: Table) -> None:
        names = ", ".join(quote(c) for c in table.stored)
        guesses = [self._guess(table, c) for c in table.stored]
        values = ", ".join(sql for sql, _ in guesses)
        self._write.run(f"INSERT INTO {self._write.real(table.name)} ({names}) SELECT {values} FROM "
                        f"{quote(self._name)}.{quote(self._prefix + table.name)}",
                        [v for _, bound in guesses for v in bound])

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
