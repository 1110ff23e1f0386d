"""All tables of a SQLite file replaced at once."""

from __future__ import annotations

from collections.abc import Callable, Collection
from pathlib import Path

from nostos.core.database.engines import Swap
from nostos.core.database.marker import MARKER, marked
from nostos.core.database.outline import Outline
from nostos.core.database.protocol import Database
from nostos.core.database.sqlite.connection import SqliteDatabase


class FileSwap(Swap):
    """SQLite: filled in a file of its own, carried over in one transaction of the site's database."""

    def __init__(self, file: Path, folder: Path, mark: str) -> None:
        self.file = file
        self.beside = folder / "database.db"
        self.mark = mark

    def load(self) -> Database:
        self.discard()
        return SqliteDatabase(self.beside, create=True)

    def commit(self, tables: Collection[str], check: Callable[[Database], None], last: Callable[[], None]) -> None:
        database = SqliteDatabase(self.file)
        try:
            def marked() -> None:
                database.mark(MARKER, self.mark, "restored")
                last()

            database.replace_from(self.beside, check, marked)
        finally:
            database.close()

    def committed(self) -> bool:
        database = SqliteDatabase(self.file)
        try:
            return marked(database, self.mark)
        finally:
            database.close()

    def finish(self, outline: Outline, tables: Collection[str]) -> None:
        return

    def discard(self) -> None:
        for ending in ("", "-wal", "-shm", "-journal"):
            Path(f"{self.beside}{ending}").unlink(missing_ok=True)
