"""Copying the rows of a whole database inside a server: while the next table is copied, the last is added up."""

from __future__ import annotations

import queue
import threading
from abc import abstractmethod
from collections.abc import Sequence
from contextlib import suppress
from typing import Generic, TypeVar

from nostos.core.database.protocol import Block, Database, InsideCopy
from nostos.core.database.schema import Table

D = TypeVar("D", bound=Database)


class ServerCopy(InsideCopy, Generic[D]):
    """A table at a time, the largest first; another connection adds up what arrived. errors: what the driver raises.
    """

    def __init__(self, source: Database, tables: Sequence[Table], replaced: Sequence[tuple[str, str]],
                 errors: type[Exception], opened: Sequence[D], seed: int | None, quick: bool) -> None:
        """opened: connections for this alone; the last is the one that adds up. seed: what fingerprints begin with.
        quick: nothing else is wanted, where there are any."""
        self._seed, self._quick = seed, quick
        self._fingerprints: dict[str, dict[int, Block]] = {}
        self._found: dict[str, dict[int, Block] | None] = {}
        self._ready = {t.name: threading.Event() for t in tables}
        self._arrived: queue.SimpleQueue[Table | None] = queue.SimpleQueue()
        self._stop = False
        self._replaced = replaced
        self._errors = errors
        self._databases = opened
        sizes = source.sizes()
        order = sorted(tables, key=lambda t: -sizes.get(t.name, (0, 0))[1])
        self._threads = [threading.Thread(target=self._copy, args=(order,), daemon=True),
                         threading.Thread(target=self._add_up, args=(opened[-1],), daemon=True)]
        for thread in self._threads:
            thread.start()

    def _begin(self) -> None:
        """What the connections are told before the first table."""

    @abstractmethod
    def _one(self, table: Table) -> None:
        """Copy a table's rows."""

    def _copy(self, tables: Sequence[Table]) -> None:
        able = False
        with suppress(self._errors):
            self._begin()
            able = True
        for table in tables:
            try:
                if not able or self._stop:
                    raise InterruptedError
                self._one(table)
                self._arrived.put(table)
            except (self._errors, InterruptedError):  # no right to read across, or a log forbids it
                self._settle(table.name, None)
        self._arrived.put(None)

    def _add_up(self, database: D) -> None:
        while (table := self._arrived.get()) is not None:
            total = None
            with suppress(self._errors):
                seed = self._seed if database.has_fingerprints(table) else None
                if not self._stop:
                    made = {} if self._quick and seed is not None else database.blocks(table, table.stored)
                    if seed is not None:
                        self._fingerprints[table.name] = database.fingerprints_of([(table, table.stored)], seed)[0]
                    total = made
            self._settle(table.name, total)

    def _settle(self, table: str, blocks: dict[int, Block] | None) -> None:
        self._found[table] = blocks
        self._ready[table].set()

    def wait(self, table: str) -> dict[int, Block] | None:
        self._ready[table].wait()
        return self._found.pop(table)

    def fingerprints(self, table: str) -> dict[int, Block] | None:
        return self._fingerprints.pop(table, None)

    def close(self) -> None:
        self._stop = True
        for thread in self._threads:
            thread.join()
        for database in self._databases:
            database.close()
