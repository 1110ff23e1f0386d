"""All tables of a SQLite file replaced at once."""

from __future__ import annotations

from collections.abc import Callable, Collection
from pathlib import Path

from nostos.core.database.marker import MARKER
from nostos.core.database.protocol import Database
from nostos.core.database.registry import Swap
from nostos.core.engines.sqlite.connection import SqliteDatabase
from nostos.core.files.entry import OWN_PREFIX
from nostos.core.files.trees import tree_at
from nostos.core.hosts.far_path import AnyPath, FarPath


class FileSwap(Swap):
    """SQLite: filled in a file of its own, carried over in one transaction of the site's database."""

    def __init__(self, file: AnyPath, folder: Path, mark: str) -> None:
        self.file = file
        # The database of another machine can take over only what is there, too.
        self.beside = file.parent / f"{OWN_PREFIX}{mark}.db" if isinstance(file, FarPath) else folder / "database.db"
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
        return self._is_marked(SqliteDatabase(self.file), self.mark)

    def discard(self) -> None:
        for ending in ("", "-wal", "-shm", "-journal"):
            tree_at(self.beside.parent).remove(f"{self.beside.name}{ending}")
