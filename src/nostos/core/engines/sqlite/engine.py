"""SQLite: a site's tables are a file on its own machine."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from contextlib import suppress
from pathlib import Path, PurePosixPath

from nostos.core.database.outline import Outline, bare, check_names, makes, refused
from nostos.core.database.protocol import Database
from nostos.core.database.registry import CopyPlace, Engine, Location, MadePlace, Swap, locate, register
from nostos.core.database.url import DatabaseUrl
from nostos.core.engines.sqlite.connection import SqliteDatabase
from nostos.core.engines.sqlite.swap import FileSwap
from nostos.core.errors import SiteError
from nostos.core.expressions import expression
from nostos.core.files.trees import tree_at
from nostos.core.hosts.far_path import AnyPath, below, host_of, on_host, on_machine

_MODULES = expression(r"\bUSING\s+(?:fts[345]|rtree)\b", re.IGNORECASE)
_ENDINGS = ("", "-wal", "-shm", "-journal")


class SqliteEngine(Engine):
    name = "sqlite"
    schemes = ("sqlite",)
    title = "SQLite"
    kept = "a SQLite file"
    example = "sqlite:///data/site.db"
    is_file = True

    def parse(self, url: DatabaseUrl, folder: AnyPath) -> DatabaseUrl:
        if not url.database or url.database == ":memory:":
            raise SiteError("The database URL names no file.", next_step=f"Write it like {self.example}.")
        return DatabaseUrl(self.name, database=on_machine((folder / url.database).resolve()))

    def at_path(self, path: str, folder: AnyPath) -> Location:
        return Location(DatabaseUrl(self.name, database=on_machine((folder / path).resolve())), host=host_of(folder))

    def shown(self, location: Location) -> str:
        return str(self.file(location))

    def file(self, location: Location) -> AnyPath:
        return on_host(location.host, location.url.database or "")

    def companions(self, location: Location) -> tuple[AnyPath, ...]:
        return tuple(on_host(location.host, f"{location.url.database}{ending}") for ending in _ENDINGS)

    def same(self, one: Location, other: Location) -> bool:
        mine, theirs = self.file(one), self.file(other)
        if isinstance(mine, Path) and isinstance(theirs, Path):
            with suppress(OSError):
                return mine.samefile(theirs)
        return mine == theirs

    def same_server(self, one: Location, other: Location) -> bool:
        return False

    def open(self, location: Location, readonly: bool = False) -> Database:
        return SqliteDatabase(self.file(location), readonly)

    def create(self, location: Location) -> Database:
        return SqliteDatabase(self.file(location), create=True)

    # --- places for copies

    def beside(self, live: Location, home: AnyPath, target: AnyPath, name: str) -> Location:
        file = self.file(live)
        place = below(file, home) or PurePosixPath("data") / file.name
        return Location(live.url.set(database=on_machine(target / place)), host=host_of(target))

    def asked(self, live: Location, wanted: str | None, prefix: str | None, folder: AnyPath) -> Location:
        if prefix or wanted is None:
            raise SiteError("A prefix tells sites in one server database apart; SQLite sites have files of their own.",
                            next_step="Leave --prefix out.")
        location = locate(wanted, folder) if "://" in wanted else self.at_path(wanted, folder)
        if location.engine is not self:
            raise SiteError("Live is kept in SQLite; its copy cannot be kept in another kind of database.",
                            next_step="Name a SQLite file with --database, or leave it out.")
        return location

    def make_place(self, live: Location, wanted: Location, asked: bool, fallback: str) -> CopyPlace:
        return CopyPlace(wanted, MadePlace.FILE)

    def remove_place(self, location: Location, made: MadePlace, tables: Collection[str], user: str) -> list[str]:
        for path in self.companions(location):
            tree_at(path.parent).remove(path.name)
        return []

    def check_free(self, location: Location) -> None:
        if self.file(location).exists():
            raise SiteError("The backup's database is a SQLite file; a new one is needed.",
                            next_step="Name a file that is not there yet with --database, or leave it out.")

    # --- a site's tables as a whole

    def swap(self, location: Location, folder: Path, mark: str) -> Swap:
        return FileSwap(self.file(location), folder, mark)

    def check_outline(self, outline: Outline) -> None:
        check_names(outline)
        for table in outline.tables:
            makes(table.ddl, self.name, "table", table.name)
            for name, ddl in table.indexes:
                makes(ddl, self.name, "index", name, (table.name,))
        for name, sql in outline.virtual:
            makes(sql, self.name, "virtual table", name)
            if not _MODULES.search(bare(sql)):
                raise refused(f"the kind of table that {name} is")
        for name, sql in outline.views:
            makes(sql, self.name, "view", name)
        for trigger in outline.triggers:
            makes(trigger.body, self.name, "trigger", trigger.name)

    def script(self, outline: Outline) -> Iterator[str]:
        for table in outline.tables:
            yield table.ddl
            yield from (ddl for _, ddl in table.indexes)
        yield from (sql for _, sql in (*outline.virtual, *outline.views))
        yield from (t.body for t in outline.triggers)


register(SqliteEngine())
