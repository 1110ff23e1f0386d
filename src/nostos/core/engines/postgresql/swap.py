"""All tables of a site replaced at once: filled in a schema of their own, exchanged with the site's in one
transaction."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from contextlib import suppress
from dataclasses import replace

import psycopg

from nostos.core.database.marker import MARKER
from nostos.core.database.protocol import Database
from nostos.core.database.registry import Location, Swap
from nostos.core.engines.postgresql.attached import OF_ROUTINES
from nostos.core.engines.postgresql.connection import PostgresDatabase
from nostos.core.engines.postgresql.objects import HOLDING_ON, LEANING
from nostos.core.engines.postgresql.reflection import HERE, quote
from nostos.core.errors import MergeRefused


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
                schema = str(database.run("SELECT current_schema()")[0][0])
                self._check_others(database, tables)
                for name in sorted(tables):
                    if name in database.tables():
                        database.run(f"LOCK TABLE {database.real(name)} IN ACCESS EXCLUSIVE MODE")
                check(database)
                self._exchange(database, schema, tables)
                database.mark(MARKER, self.mark, "restored")
                last()
        except psycopg.Error as error:
            raise MergeRefused(f"The server would not put the tables in place: {str(error).splitlines()[0]}.",
                               next_step="Try again at a quieter hour.") from error
        finally:
            database.close()

    def _check_others(self, database: PostgresDatabase, tables: Collection[str]) -> None:
        """What stays must not lead to tables that are replaced: it would go with those."""
        names = {database.prefix + t for t in tables}
        for child, target, inside in database.run(
                "SELECT CASE WHEN c.relnamespace = f.relnamespace THEN c.relname ELSE c.oid::regclass::text END, "
                "f.relname, c.relnamespace = f.relnamespace FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid "
                "JOIN pg_class f ON f.oid = k.confrelid WHERE k.contype = 'f' AND k.conparentid = 0 "
                f"AND f.relnamespace = {HERE}"):
            if target in names and (child not in names or not inside):
                raise MergeRefused(f"The table {child}, which the backup does not have, points at {target}.",
                                   next_step=f"Drop {child}, or its foreign key, then restore again.")
        for view, target in database.run(
                "SELECT DISTINCT v.oid::regclass::text, c.relname FROM pg_depend d JOIN pg_rewrite r "
                "ON r.oid = d.objid JOIN pg_class v ON v.oid = r.ev_class JOIN pg_class c ON c.oid = d.refobjid "
                "WHERE d.classid = 'pg_rewrite'::regclass AND d.refclassid = 'pg_class'::regclass AND v.oid <> c.oid "
                f"AND v.relnamespace <> c.relnamespace AND c.relnamespace = {HERE}"):
            if target in names:
                raise MergeRefused(f"The view {view}, which is outside of the site, reads from {target}.",
                                   next_step=f"Drop {view}, restore again, and make it anew.")

    def _exchange(self, database: PostgresDatabase, current: str, tables: Collection[str]) -> None:
        """Move the site's tables out of the way, and the new ones into their place."""
        database.run(f"CREATE SCHEMA {quote(self.old)}")
        names = {database.prefix + t for t in tables}
        kinds = {"r": "TABLE", "p": "TABLE", "v": "VIEW", "m": "MATERIALIZED VIEW"}
        coming = {(str(n), str(k)) for n, k in database.run(
            "SELECT relname, relkind::text FROM pg_class WHERE relnamespace = %s::regnamespace "
            "AND relkind IN ('r', 'p', 'v', 'm')", (quote(self.new),))}
        relations = {(str(n), str(k)) for n, k in database.run(
            "SELECT relname, relkind::text FROM pg_class WHERE relnamespace = %s::regnamespace "
            "AND relkind IN ('r', 'p', 'v', 'm')", (quote(current),))}
        moved = {n for n, _ in coming} | names
        leaning = [(int(oid), str(sql)) for oid, _, sql in database.run(LEANING)]
        statements = [str(sql) for query in OF_ROUTINES for _, sql in database.run(query)] if leaning else []
        # Statistics that are kept of several columns together do not move with their table.
        kept = [(schema, str(n)) for schema in (current, self.new) for n, of in database.run(
            "SELECT s.stxname, c.relname FROM pg_statistic_ext s JOIN pg_class c ON c.oid = s.stxrelid "
            "WHERE s.stxnamespace = %s::regnamespace", (quote(schema),)) if of in moved]
        for name, kind in relations:
            if name in moved:
                database.run(f"ALTER {kinds[kind]} {quote(current)}.{quote(name)} SET SCHEMA {quote(self.old)}")
        for name, kind in coming:
            database.run(f"ALTER {kinds[kind]} {quote(self.new)}.{quote(name)} SET SCHEMA {quote(current)}")
        self._lean_anew(database, leaning, statements)
        for schema, name in kept:
            database.run(f"ALTER STATISTICS {quote(schema)}.{quote(name)} SET SCHEMA "
                         f"{quote(self.old if schema == current else current)}")
        left = database.run(f"{HOLDING_ON} LIMIT 1", (self.old, self.old, "", self.old))
        if left:
            raise MergeRefused(f"The database has something that would go with the tables it replaces: {left[0][0]}.",
                               next_step="Drop it, restore again, and make it anew.")

    def _lean_anew(self, database: PostgresDatabase, leaning: Sequence[tuple[int, str]],
                   statements: Sequence[str]) -> None:
        """Make functions that lean on the old tables lean on the new ones, whose names are the same. statements: what
        is said of functions, and who may use them."""
        for oid, sql in leaning:
            name = "SELECT p.oid::regprocedure::text FROM pg_proc p WHERE p.oid = %s"
            old = str(database.run(name, (oid,))[0][0])
            try:
                with database.holding_on():
                    database.run_one(sql)
            except psycopg.errors.InvalidFunctionDefinition:  # it gives rows of the old table
                database.run(f"DROP ROUTINE {old}")
                database.run_one(sql)
            if f"{quote(self.old)}." in old or f"{self.old}." in old:  # it takes rows of the old table
                database.run(f"DROP ROUTINE {old}")
        for sql in statements:
            with suppress(psycopg.Error), database.holding_on():
                database.run_one(sql)

    def committed(self) -> bool:
        return self._is_marked(PostgresDatabase(self.location), self.mark)

    def replaced(self) -> Location | None:
        return self._at(self.old)

    def discard(self) -> None:
        database = PostgresDatabase(self.location)
        try:
            for schema in (self.new, self.old):
                database.run(f"DROP SCHEMA IF EXISTS {quote(schema)} CASCADE")
        finally:
            database.close()
