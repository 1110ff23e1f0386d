"""The marker that an operation leaves in the database, inside its transaction: it is there if and only if the
transaction was committed."""

from __future__ import annotations

from nostos.core.database.base import Database

MARKER = "nostos_merges"  # the table


def marked(database: Database, operation: str) -> bool:
    """Whether an operation's transaction was committed. Waits for one that the server has not ended yet."""
    with database.writing():
        table = database.tables().get(MARKER)
        return table is not None and database.fetch_locked(table, (operation,)) is not None
