"""Rows of tables that no transaction covers: written down before they are written, and put back one by one where the
operation does not come to its end.
"""

from __future__ import annotations

import base64
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Key, Row, Table
from nostos.core.values.merging import same
from nostos.core.values.packed import pack, unpack


class LooseRows:
    """What is written to such tables. tables: their names; none where all of it is in transactions. write: takes a
    note, as text, before anything is done."""

    def __init__(self, tables: Iterable[str] = (), write: Callable[[str], None] = lambda _: None) -> None:
        self.tables = frozenset(tables)
        self.notes: list[str] = []
        self._write = write

    def note(self, table: str, changes: Sequence[tuple[Key, Mapping[str, Any] | None, Mapping[str, Any] | None]]
             ) -> None:
        """Rows of a table with what they had before and have after, in the columns that are written; None: there was
        none, or is none. Before they are written, but for a row whose key the database gives out."""
        if table in self.tables and changes:
            text = base64.b64encode(pack([table, [[list(k), before, after] for k, before, after in changes]])).decode()
            self._write(text)
            self.notes.append(text)


def put_back(notes: Iterable[str], database: Database) -> list[str]:
    """Put rows back that were written, the last ones first; what somebody has written there since stays. Returns what
    is not as it was, in words. Each row is put back by itself, so that a crash in it can be followed by another try."""
    tables = database.tables()
    kept: dict[str, None] = {}
    for text in reversed(list(notes)):
        name, changes = unpack(base64.b64decode(text))
        table = tables.get(name)
        for key, before, after in reversed(changes) if table is not None else ():
            assert table is not None
            if not _one_back(database, table, tuple(key), before, after):
                kept[name] = None
    return [f"rows of {name}, which has no transactions: they have changed since" for name in kept]


def _one_back(database: Database, table: Table, key: Key, before: Row | None, after: Row | None) -> bool:
    now = database.fetch(table, key)
    if before is None:  # it was added
        if now is not None and after is not None and not all(same(now.get(c), v) for c, v in after.items()):
            return False
        if now is not None:
            database.remove(table, key)
    elif after is None:  # it was removed
        if now is None:
            database.insert_many(table, list(before), [tuple(before.values())])
    elif now is not None:
        ours = {c: v for c, v in before.items() if same(now.get(c), after.get(c)) and not same(now.get(c), v)}
        if ours:
            database.update(table, key, ours)
        return all(same(now.get(c), after.get(c)) or same(now.get(c), v) for c, v in before.items())
    return True
