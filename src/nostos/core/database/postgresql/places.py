"""Databases and tables of a server as places for staging copies."""

from __future__ import annotations

from collections.abc import Collection

import psycopg

from nostos.core.database.postgresql.connection import PostgresDatabase
from nostos.core.database.postgresql.reflection import quote
from nostos.core.database.server_session import COPY
from nostos.core.errors import SiteError


def make_database(database: PostgresDatabase, name: str) -> None:
    """A new, empty database with this one's encoding and locale. Raises SiteError when the rights do not allow it."""
    collate, ctype = database.run("SELECT datcollate, datctype FROM pg_database WHERE datname = current_database()")[0]
    try:
        database.run(f"CREATE DATABASE {quote(name)} TEMPLATE template0 ENCODING 'UTF8' LC_COLLATE '{collate}' "
                     f"LC_CTYPE '{ctype}'")
    except psycopg.Error as error:
        raise SiteError(f"The database {name} cannot be made: {str(error).splitlines()[0]}.",
                        next_step="Ask the host for one, and name it with --database.") from error


def drop_database(database: PostgresDatabase, name: str) -> None:
    force = " WITH (FORCE)" if database.number >= 130000 else ""
    database.run(f"DROP DATABASE IF EXISTS {quote(name)}{force}")


def mark_copy(database: PostgresDatabase) -> None:
    """Say that this schema is a copy. Raises SiteError."""
    try:
        database.run(f"CREATE TABLE {quote(COPY)} (id int PRIMARY KEY)")
    except psycopg.Error as error:
        raise SiteError(f"No tables can be made in {database.url}: {str(error).splitlines()[0]}.",
                        next_step="Name another database with --database, or ask for the right.") from error


def wipe(database: PostgresDatabase, names: Collection[str]) -> list[str]:
    """Drop these tables and views, with the types and functions of their schema. Returns what else is there."""
    kinds = {"v": "VIEW", "m": "MATERIALIZED VIEW"}
    for name, kind in database.run("SELECT relname, relkind::text FROM pg_class WHERE relnamespace = "
                                   "current_schema()::regnamespace AND relkind IN ('r', 'p', 'v', 'm')"):
        if name in names or name == COPY:
            database.run(f"DROP {kinds.get(kind, 'TABLE')} IF EXISTS {quote(name)} CASCADE")
    left = list(database.all_names())
    if not left:
        for what, sql in (("FUNCTION", "SELECT p.oid::regprocedure::text FROM pg_proc p WHERE p.pronamespace = "
                                       "current_schema()::regnamespace AND NOT EXISTS (SELECT 1 FROM pg_depend d "
                                       "WHERE d.objid = p.oid AND d.deptype = 'e')"),
                          ("TYPE", "SELECT quote_ident(t.typname) FROM pg_type t WHERE t.typnamespace = "
                                   "current_schema()::regnamespace AND t.typtype IN ('e', 'd', 'c') AND NOT EXISTS "
                                   "(SELECT 1 FROM pg_depend d WHERE d.objid = t.oid AND d.deptype = 'e')")):
            for (name,) in database.run(sql):
                database.run(f"DROP {what} IF EXISTS {name} CASCADE")
    return left


def make_schema(database: PostgresDatabase, name: str) -> None:
    """A schema, if it is not there. Raises SiteError when the rights do not allow it."""
    try:
        database.run(f"CREATE SCHEMA IF NOT EXISTS {quote(name)}")
    except psycopg.Error as error:
        raise SiteError(f"The schema {name} cannot be made: {str(error).splitlines()[0]}.",
                        next_step="Ask the host for it, or name another database with --database.") from error
