"""Databases and tables of a server as places for staging copies."""

from __future__ import annotations

from collections.abc import Collection
from contextlib import suppress

import psycopg

from nostos.core.engines.postgresql.connection import PostgresDatabase
from nostos.core.engines.postgresql.objects import ELSEWHERE
from nostos.core.engines.postgresql.reflection import HERE, literal, not_brought, quote
from nostos.core.engines.server_session import COPY
from nostos.core.errors import SiteError

_MADE = "made for a copy by nostos"
# What else is in a schema: types, functions, sequences and the like. What goes with another of them is gone by then.
_ELSE = ("SELECT i.type, i.identity FROM pg_depend d, LATERAL pg_identify_object(d.classid, d.objid, d.objsubid) i "
         f"WHERE d.refclassid = 'pg_namespace'::regclass AND d.refobjid = {HERE} "
         "AND d.deptype = 'n' AND i.type IN ('sequence', 'function', 'procedure', 'aggregate', 'type', 'operator', "
         "'collation', 'text search configuration', 'text search dictionary') AND NOT EXISTS (SELECT 1 FROM pg_depend "
         "e WHERE e.classid = d.classid AND e.objid = d.objid AND e.deptype = 'e')")


def make_database(database: PostgresDatabase, name: str) -> None:
    """A new, empty database with this one's encoding and locale. Raises SiteError when the rights do not allow it."""
    collate, ctype, provider, locale, number, closed = database.run(
        "SELECT d.datcollate, d.datctype, j ->> 'datlocprovider', COALESCE(j ->> 'datlocale', j ->> 'daticulocale'), "
        "d.oid::bigint, d.datacl IS NOT NULL AND NOT EXISTS (SELECT 1 FROM aclexplode(d.datacl) x WHERE x.grantee = 0) "
        "FROM pg_database d, LATERAL to_jsonb(d) j WHERE d.datname = current_database()")[0]
    way = {"i": "icu ICU_LOCALE", "b": "builtin BUILTIN_LOCALE"}.get(str(provider))
    try:
        database.run(f"CREATE DATABASE {quote(name)} TEMPLATE template0 ENCODING 'UTF8' LC_COLLATE {literal(collate)} "
                     f"LC_CTYPE {literal(ctype)}" + (f" LOCALE_PROVIDER {way} {literal(locale)}" if way else ""))
        if closed:  # as nobody but whom it was opened to sees live's, nobody sees the copy
            database.run(f"REVOKE ALL ON DATABASE {quote(name)} FROM PUBLIC")
        for (quoted,) in database.run("SELECT unnest(setconfig) FROM pg_db_role_setting WHERE setdatabase = %s "
                                    "AND setrole = 0", (number,)):
            setting, _, value = str(quoted).partition("=")
            # A list of schemas is kept as it is written: each name with its own quotes.
            written = value if setting == "search_path" else literal(value)
            with suppress(psycopg.Error):
                database.run_one(f"ALTER DATABASE {quote(name)} SET {quote(setting)} TO {written or literal('')}")
    except psycopg.Error as error:
        raise SiteError(f"The database {name} cannot be made: {str(error).splitlines()[0]}.",
                        next_step="Ask the host for one, and name it with --database.") from error


def everything(database: PostgresDatabase) -> list[str]:
    """The tables and views of all schemas of a database."""
    return [str(n) for (n,) in database.run(
        "SELECT c.oid::regclass::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
        "WHERE n.nspname NOT "
        f"LIKE 'pg\\_%' AND n.nspname <> 'information_schema' AND {not_brought('c.oid', 'pg_class')} "
        "AND c.relkind IN ('r', 'p', 'v', 'm')")]


def rests_elsewhere(database: PostgresDatabase) -> bool:
    """Whether a schema rests on what is in other schemas of its database."""
    return bool(database.run(ELSEWHERE))


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
                                   f"{HERE} AND relkind IN ('r', 'p', 'v', 'm')"):
        if name in names or name == COPY:
            # By its full name: one that went with another must not be found elsewhere.
            database.run(f"DROP {kinds.get(kind, 'TABLE')} IF EXISTS {database.in_schema(name)} CASCADE")
    left = list(database.all_names())
    if not left:
        for what, name in database.run(_ELSE):
            database.run(f"DROP {what} IF EXISTS {name} CASCADE")
        here, quoted = database.run(f"SELECT quote_ident(current_schema()), obj_description({HERE}, 'pg_namespace')")[0]
        if quoted == _MADE:
            database.run(f"DROP SCHEMA {here}")
    return left


def make_schema(database: PostgresDatabase, name: str) -> None:
    """A schema, if it is not there. Raises SiteError when the rights do not allow it."""
    try:
        if not database.run("SELECT 1 FROM pg_namespace WHERE nspname = %s", (name,)):
            database.run(f"CREATE SCHEMA {quote(name)}")
            database.run(f"COMMENT ON SCHEMA {quote(name)} IS {literal(_MADE)}")
    except psycopg.Error as error:
        raise SiteError(f"The schema {name} cannot be made: {str(error).splitlines()[0]}.",
                        next_step="Ask the host for it, or name another database with --database.") from error
