"""Databases and tables of a server as places for staging copies: making them, emptying them, removing them."""

from __future__ import annotations

import secrets
from collections.abc import Collection
from contextlib import suppress
from dataclasses import replace

from nostos.core.engines.mysql.connection import MysqlDatabase
from nostos.core.engines.mysql.reflection import quote
from nostos.core.engines.server_session import COPY
from nostos.core.errors import SiteError


def others(database: MysqlDatabase) -> list[str]:
    """The names of whatever else is in the database that this prefix would cover."""
    return [n for (n,) in database.run("SELECT table_name FROM information_schema.tables WHERE table_schema = %s",
                                    (database.name,)) if database.holds(n)]


def mark_copy(database: MysqlDatabase) -> None:
    """Say that what is under this prefix is a copy: whoever looks from a shorter one leaves it alone. Raises
    SiteError."""
    try:
        database.run(f"CREATE TABLE {quote(database.prefix + COPY)} (id INT PRIMARY KEY) ENGINE=InnoDB")
    except database.driver.MySQLError as error:
        raise SiteError(f"No tables can be made in {database.url}: {error.args[-1]}.",
                        next_step="Name another database with --database, or ask for the right.") from error


def wipe(database: MysqlDatabase, names: Collection[str]) -> list[str]:
    """Drop these tables and views. Returns what else the prefix covers, which may be another's and stays."""
    database.run("SET SESSION foreign_key_checks = 0")
    for name, what in database.run("SELECT table_name, table_type FROM information_schema.tables "
                                "WHERE table_schema = %s", (database.name,)):
        if name in names or name == database.prefix + COPY:
            database.run(f"DROP {'VIEW' if what == 'VIEW' else 'TABLE'} IF EXISTS {quote(name)}")
    return others(database)


def make_database(database: MysqlDatabase, name: str) -> None:
    """A new, empty database with this one's character set. Raises SiteError when the rights do not allow it."""
    charset, collation = database.run("SELECT default_character_set_name, default_collation_name FROM "
                                   "information_schema.schemata WHERE schema_name = %s", (database.name,))[0]
    try:
        database.run(f"CREATE DATABASE {quote(name)} CHARACTER SET {charset} COLLATE {collation}")
    except database.driver.MySQLError as error:
        raise SiteError(f"The database {name} cannot be made: {error.args[-1]}.",
                        next_step="Ask the host for one, or use --prefix.") from error


def make_user(database: MysqlDatabase, name: str) -> tuple[str, str, str] | None:
    """A user who may do everything in one database and nothing elsewhere: name, host and password. None: the rights
    do not allow it."""
    host = str(database.run("SELECT CURRENT_USER()")[0][0]).rpartition("@")[2]
    user, password = f"nostos_{secrets.token_hex(6)}", secrets.token_urlsafe(24)
    scope = quote(name.replace("\\", "\\\\").replace("_", "\\_").replace("%", "\\%"))
    try:
        database.run("CREATE USER %s@%s IDENTIFIED BY %s", (user, host, password))
    except database.driver.MySQLError:
        return None
    try:
        database.run(f"GRANT ALL PRIVILEGES ON {scope}.* TO %s@%s", (user, host))
        url = database.location.url.set(username=user, password=password, database=name)
        MysqlDatabase(replace(database.location, url=url)).close()
    except (database.driver.MySQLError, SiteError):
        drop_user(database, f"{user}@{host}")
        return None
    return user, host, password


def drop_user(database: MysqlDatabase, user: str) -> None:
    name, _, host = user.rpartition("@")
    with suppress(database.driver.MySQLError):
        database.run("DROP USER %s@%s", (name, host))


def drop_database(database: MysqlDatabase, name: str) -> None:
    database.run(f"DROP DATABASE IF EXISTS {quote(name)}")
