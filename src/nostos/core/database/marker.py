"""The marker that an operation leaves in the database, inside its transaction: it is there if and only if the
transaction was committed."""

from __future__ import annotations

from time import monotonic, sleep

from nostos.core.database.protocol import Database
from nostos.core.errors import Disturbed

MARKER = "nostos_merges"  # the table
_WAIT_SECONDS = 60.0


def marked(database: Database, operation: str) -> bool:
    """Whether an operation's transaction was committed. Waits for one that the server has not ended yet."""
    until = monotonic() + _WAIT_SECONDS
    while True:
        try:
            with database.writing():
                table = database.tables().get(MARKER)
                return table is not None and database.fetch_locked(table, (operation,)) is not None
        except Disturbed:
            if monotonic() > until:
                raise
            sleep(0.1)
