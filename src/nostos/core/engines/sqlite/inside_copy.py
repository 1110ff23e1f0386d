"""Copying the rows of a database from one file to another on the machine that both are on, by its own sqlite3."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from contextlib import suppress
from urllib.parse import quote as url_quote

from nostos.core.database.protocol import Block, InsideCopy
from nostos.core.database.schema import Table
from nostos.core.engines.sqlite.session import quote
from nostos.core.engines.sqlite.writing import SqliteWriting
from nostos.core.hosts.far_path import FarPath


class SqliteInsideCopy(InsideCopy):
    """A table at a time, when its turn comes."""

    def __init__(self, target: SqliteWriting, source: FarPath, tables: Sequence[Table],
                 replaced: Sequence[tuple[str, str]]) -> None:
        self._target = target
        self._tables = {t.name: t for t in tables}
        self._replaced = replaced
        # The path stands in the statement: what attaches looks at it before.
        target._run(f"ATTACH DATABASE 'file:{url_quote(str(source.path))}?mode=ro' AS nostos_live")

    def wait(self, table: str) -> dict[int, Block] | None:
        known = self._tables[table]
        names = ", ".join(quote(c) for c in known.stored)
        guesses = [self._guess(known, c) for c in known.stored]
        try:
            self._target._run(f"INSERT INTO main.{quote(table)} ({names}) SELECT {', '.join(s for s, _ in guesses)} "
                              f"FROM nostos_live.{quote(table)}", [v for _, bound in guesses for v in bound])
            return self._target.blocks(known, known.stored)
        except sqlite3.Error:
            return None

    def _guess(self, table: Table, name: str) -> tuple[str, list[str]]:
        """SQL for a column as staging most likely has it, with its values. What is wrong is found and mended later."""
        sql = quote(name)
        if name in table.key or not self._replaced:
            return sql, []
        for _ in self._replaced:
            sql = f"REPLACE({sql}, ?, ?)"
        return (f"CASE typeof({quote(name)}) WHEN 'text' THEN {sql} ELSE {quote(name)} END",
                [v for pair in self._replaced for v in pair])

    def close(self) -> None:
        with suppress(sqlite3.Error):
            self._target._run("DETACH DATABASE nostos_live")
