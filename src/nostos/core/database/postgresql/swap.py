"""All tables of a site replaced at once: filled in a schema of their own, exchanged with the site's in one
transaction."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import replace

import psycopg

from nostos.core.database.engines import Location, Swap
from nostos.core.database.marker import MARKER, marked
from nostos.core.database.outline import Outline
from nostos.core.database.postgresql.connection import PostgresDatabase
from nostos.core.database.postgresql.reflection import quote
from nostos.core.database.protocol import Database
from nostos.core.errors import MergeRefused

_TRIES = 5


class SchemaSwap(Swap):
    def __init__(self, location: Location, mark: str) -> None:
        self.location = location
        self.mark = mark
        self.new, self.old = (f"nostos_{what}_{mark[-8:].replace('-', '_')}" for what in ("new", "old"))

    def _at(self, schema: str) -> Location:
        query = {**self.location.url.query, "schema": schema}
        return replace(self.location, url=self.location.url.set(query=query))

    def load(self) -> Database:
        self.discard()
        database = PostgresDatabase(self.location)
        try:
            database.run(f"CREATE SCHEMA {quote(self.new)}")
        finally:
            database.close()
        # Types and functions are the site's own: what is beside it goes, with all that rests on it.
        return PostgresDatabase(self._at(f"{self.new},{self._own()}"))

    def _own(self) -> str:
        database = PostgresDatabase(self.location, readonly=True)
        try:
            return str(database.run("SELECT current_schema()")[0][0])
        finally:
            database.close()

    def commit(self, tables: Collection[str], check: Callable[[Database], None], last: Callable[[], None]) -> None:
        database = PostgresDatabase(self.location)
        try:
            with database.writing():
                own = str(database.run("SELECT current_schema()")[0][0])
                self._check_others(database, tables)
                for name in sorted(tables):
                    if name in database.tables():
                        database.run(f"LOCK TABLE {database.real(name)} IN ACCESS EXCLUSIVE MODE")
                check(database)
                self._exchange(database, own, tables)
                database.mark(MARKER, self.mark, "restored")
                last()
        except psycopg.Error as error:
            raise MergeRefused(f"The server would not put the tables in place: {str(error).splitlines()[0]}.",
                               next_step="Try again at a quieter hour.") from error
        finally:
            database.close()

    def _check_others(self, database: PostgresDatabase, tables: Collection[str]) -> None:
        """Tables that stay must not point at ones that are replaced: their references would go with those."""
        own = {database.prefix + t for t in tables}
        for child, target in database.run(
                "SELECT c.relname, f.relname FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid "
                "JOIN pg_class f ON f.oid = k.confrelid WHERE k.contype = 'f' "
                "AND c.relnamespace = current_schema()::regnamespace"):
            if target in own and child not in own:
                raise MergeRefused(f"The table {child}, which the backup does not have, points at {target}.",
                                   next_step=f"Drop {child}, or its foreign key, then restore again.")

    def _exchange(self, database: PostgresDatabase, own: str, tables: Collection[str]) -> None:
        """Move the site's tables out of the way, and the new ones into their place."""
        database.run(f"CREATE SCHEMA {quote(self.old)}")
        names = {database.prefix + t for t in tables}
        kinds = {"r": "TABLE", "p": "TABLE", "v": "VIEW", "m": "MATERIALIZED VIEW"}
        coming = {(str(n), str(k)) for n, k in database.run(
            "SELECT relname, relkind::text FROM pg_class WHERE relnamespace = %s::regnamespace "
            "AND relkind IN ('r', 'p', 'v', 'm')", (quote(self.new),))}
        there = {(str(n), str(k)) for n, k in database.run(
            "SELECT relname, relkind::text FROM pg_class WHERE relnamespace = %s::regnamespace "
            "AND relkind IN ('r', 'p', 'v', 'm')", (quote(own),))}
        moved = {n for n, _ in coming} | names
        for name, kind in there:
            if name in moved:
                database.run(f"ALTER {kinds[kind]} {quote(own)}.{quote(name)} SET SCHEMA {quote(self.old)}")
        for name, kind in coming:
            database.run(f"ALTER {kinds[kind]} {quote(self.new)}.{quote(name)} SET SCHEMA {quote(own)}")

    def committed(self) -> bool:
        database = PostgresDatabase(self.location)
        try:
            return marked(database, self.mark)
        finally:
            database.close()

    def finish(self, outline: Outline, tables: Collection[str]) -> None:
        return

    def replaced(self) -> Location | None:
        return self._at(self.old)

    def discard(self) -> None:
        database = PostgresDatabase(self.location)
        try:
            for schema in (self.new, self.old):
                database.run(f"DROP SCHEMA IF EXISTS {quote(schema)} CASCADE")
        finally:
            database.close()
