"""The marker that an operation leaves in the database, inside its transaction: it is there if and only if the
transaction was committed."""

from __future__ import annotations

from time import monotonic, sleep

from nostos.core.database.protocol import Database
from nostos.core.errors import Disturbed, MergeRefused

MARKER = "nostos_merges"  # the table
_WAIT_SECONDS = 60.0
_TRIES = 3  # at writing a marker that another has just written


class _Free(Exception):
    """Nobody has the marker: what was written in its place is taken back."""


def marked(database: Database, operation: str) -> bool:
    """Whether an operation's transaction was committed. Waits for one that the server has not ended yet: a COMMIT may
    take long, and until it has come to its end nobody sees the marker. So the same one is written, which every server
    lets wait for the other, and taken back.

    Raises Disturbed, or MergeRefused, where it cannot be told now.
    """
    until = monotonic() + _WAIT_SECONDS
    tries = 0
    while True:
        try:
            with database.writing():
                table = database.tables().get(MARKER)
                if table is not None and database.fetch_locked(table, (operation,)) is not None:
                    return True
                if table is None and not database.transactional_schema:
                    return False  # its table is made before any transaction
                database.mark(MARKER, operation, "")
                raise _Free
        except _Free:
            return False
        except Disturbed:
            if monotonic() > until:
                raise
            sleep(0.1)
        except MergeRefused:  # somebody's is there by now
            tries += 1
            if tries == _TRIES:
                raise
