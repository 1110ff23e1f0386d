"""What the engines of database servers have in common."""

from __future__ import annotations

import re
from abc import abstractmethod
from dataclasses import replace
from typing import ClassVar

from nostos.core.database.marker import MARKER
from nostos.core.database.registry import Engine, Location
from nostos.core.database.url import DatabaseUrl
from nostos.core.engines import held_lock
from nostos.core.errors import SiteError
from nostos.core.hosts.far_path import AnyPath, host_of

HERE = ("localhost", "127.0.0.1", "::1")
_LONGEST = 60  # bytes of a database's name that are ours to use


def own_tables(prefix: str) -> set[str]:
    """The full names of the tables that Nostos itself makes beside a site's."""
    return {prefix + name for name in (MARKER, held_lock.MARKS)}


class ServerEngine(Engine):
    """socket: what a URL's query calls the server's socket. emptied: what to do where a place has tables. port: where a
    server answers that nobody has moved."""

    socket: ClassVar[str]
    emptied: ClassVar[str]
    port: ClassVar[int]

    def parse(self, url: DatabaseUrl, folder: AnyPath) -> DatabaseUrl:
        if not url.database:
            raise SiteError("The database URL names no database.", next_step=f"Write it like {self.example}.")
        return url.set(drivername=self.name)

    def shown(self, location: Location) -> str:
        url = location.url
        where = url.query.get(self.socket) or f"{url.host or 'localhost'}:{url.port or self.port}"
        where = f"{where}, as {location.host} sees it" if location.host else where
        schema = f", schema {url.query['schema']}" if "schema" in url.query else ""
        prefix = f", tables {location.prefix}*" if location.prefix else ""
        return f"{url.database} on {where}{schema}{prefix}"

    def address(self, location: Location) -> tuple[object, ...]:
        """Where a server is reached: alike for two locations of which the words alone say that it is one server."""
        host = (location.url.host or "localhost").lower()
        return (location.host, "this machine" if host in HERE else host, location.url.port or self.port,
                location.url.query.get(self.socket))

    @abstractmethod
    def session(self, location: Location) -> held_lock.Session:
        """A connection that only reads."""

    def beside(self, live: Location, home: AnyPath, target: AnyPath, name: str) -> Location:
        if live.host != host_of(target) and self._on_its_machine(live.url):
            raise SiteError("Staging is to be on another machine than live, and live's database server answers only to "
                            "live's.", next_step="Name a database with --database, as staging's machine sees it.")
        database = re.sub(r"[^A-Za-z0-9_]", "_", f"{live.url.database}_{name}")[:_LONGEST]
        return replace(live, url=live.url.set(database=database), host=host_of(target))

    def _on_its_machine(self, url: DatabaseUrl) -> bool:
        """Whether only the machine that a server runs on reaches it so."""
        return bool(url.query.get(self.socket)) or (url.host or "localhost") in HERE

    def check_free(self, location: Location) -> None:
        database = self.open(location, readonly=True)
        try:
            if database.tables():
                raise SiteError(f"There are tables in {location.shown} already.", next_step=self.emptied)
        finally:
            database.close()

    def unfinished(self, location: Location) -> list[str]:
        database = self.session(location)
        try:
            return held_lock.unfinished(database)
        finally:
            database.close()
