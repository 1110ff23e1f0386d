"""No database: a site of files only."""

from __future__ import annotations

from collections.abc import Callable, Collection
from pathlib import Path

from nostos.core.database.outline import Outline, check_names
from nostos.core.database.protocol import Database
from nostos.core.database.registry import NONE, CopyPlace, Engine, Location, MadePlace, Swap, register
from nostos.core.database.url import DatabaseUrl
from nostos.core.engines.none.connection import NoDatabase
from nostos.core.errors import SiteError
from nostos.core.hosts.far_path import AnyPath


class NoEngine(Engine):
    name = NONE
    title = "no database"
    kept = "no database"

    def parse(self, url: DatabaseUrl, folder: AnyPath) -> DatabaseUrl:
        return DatabaseUrl(NONE)

    def shown(self, location: Location) -> str:
        return "no database"

    def same(self, one: Location, other: Location) -> bool:
        return True

    def same_server(self, one: Location, other: Location) -> bool:
        return True

    def open(self, location: Location, readonly: bool = False) -> Database:
        return NoDatabase()

    def beside(self, live: Location, home: AnyPath, target: AnyPath, name: str) -> Location:
        return live

    def asked(self, live: Location, wanted: str | None, prefix: str | None, folder: AnyPath) -> Location:
        raise SiteError("The site has no database, so its copy has none.",
                        next_step="Leave --database and --prefix out.")

    def make_place(self, live: Location, wanted: Location, asked: bool, fallback: str) -> CopyPlace:
        return CopyPlace(wanted, MadePlace.NOTHING)

    def remove_place(self, location: Location, made: MadePlace, tables: Collection[str], user: str) -> list[str]:
        return []

    def check_free(self, location: Location) -> None:
        return

    def swap(self, location: Location, folder: Path, mark: str) -> Swap:
        return NoSwap(folder)

    def check_outline(self, outline: Outline) -> None:
        check_names(outline)


class NoSwap(Swap):
    """A file in the operation's folder says that it came to pass."""

    def __init__(self, folder: Path) -> None:
        self.flag = folder / "committed"

    def load(self) -> Database:
        return NoDatabase()

    def commit(self, tables: Collection[str], check: Callable[[Database], None], last: Callable[[], None]) -> None:
        last()
        self.flag.touch(mode=0o600)

    def committed(self) -> bool:
        return self.flag.exists()

    def discard(self) -> None:
        return


register(NoEngine())
