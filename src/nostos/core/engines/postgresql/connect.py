"""Connecting to a PostgreSQL server: what a database's URL asks for, and what the driver's errors mean."""

from __future__ import annotations

from typing import Any

import psycopg

from nostos.core.database.registry import Location
from nostos.core.errors import Disturbed, MergeRefused, NostosError, NoSuchDatabase, SiteError
from nostos.core.hosts.connection import Forward, Server, reach, sought

PORT = 5432
_KNOWN = ("sslmode", "sslrootcert", "sslcert", "sslkey", "connect_timeout")
_OURS = ("host", "schema")  # a socket's folder; the schema that the site's tables are in
# The transaction was broken off, and nothing of it is there: serialisation, deadlocks, locks that were not to be had.
_BROKEN_OFF = {"40001", "40P01", "55P03", "25P02", "57014"}
# What a session is set to, so that values have one spelling. By statements: a pooler passes no options on. Where row
# security would hide rows, reading is an error: what nobody saw cannot be kept.
SETTINGS = (("DateStyle", "ISO,YMD"), ("IntervalStyle", "postgres"), ("bytea_output", "hex"), ("TimeZone", "UTC"),
            ("extra_float_digits", "1"), ("row_security", "off"), ("client_min_messages", "warning"))
Row = tuple[Any, ...]


def connect(location: Location) -> psycopg.Connection[Row]:
    """A connection that commits by itself. Raises SiteError where none is to be had."""
    url = location.url
    options: dict[str, Any] = {"dbname": url.database, "user": url.username, "password": url.password,
                               "host": url.query.get("host") or url.host or "localhost", "port": url.port or PORT}
    for name, value in url.query.items():
        if name not in (*_KNOWN, *_OURS):
            raise SiteError(f"The option {name} in the database's URL is not known.",
                            next_step=f"Known are: {', '.join((*_KNOWN, *_OURS))}.")
        if name in _KNOWN:
            options[name] = str(value)
    way = _through_host(location, options) if location.host else None
    try:
        made = psycopg.connect(**{k: v for k, v in options.items() if v is not None}, autocommit=True,
                               cursor_factory=psycopg.ClientCursor, prepare_threshold=None, client_encoding="utf8")
    except psycopg.OperationalError as error:
        if way is not None and way.failed:
            raise SiteError(f"The database server at {location.shown}, cannot be reached from there: {way.failed}.",
                            next_step="Check the host in the site's configuration, and that the server runs.") from None
        raise _refused(location, error) from None
    return made


def servers(location: Location) -> list[Server]:
    """Where the server is looked for, as the site's own machine sees it."""
    host, port = str(location.url.query.get("host") or location.url.host or "localhost"), int(location.url.port or PORT)
    path = f"{host}/.s.PGSQL.{port}" if host.startswith("/") else ""
    return sought(host, port, path, (f"/var/run/postgresql/.s.PGSQL.{port}",))


def _through_host(location: Location, options: dict[str, Any]) -> Forward:
    """Lead the connection through the host that the URL sees things as."""
    way = reach(location.host).forward(*servers(location), name=f".s.PGSQL.{PORT}")
    options.update(host=way.folder, port=PORT)
    return way


def _refused(location: Location, error: psycopg.OperationalError) -> SiteError:
    message = str(error).lower()
    why = next((reason for words, reason in (
        ("password authentication failed", "it does not accept the user name or password"),
        ("does not exist", f"it has no such database or user ({location.url.database})"),
        ("permission denied", f"the user may not use {location.url.database}"),
        ("connection refused", "it does not answer"), ("timeout", "it does not answer"),
        ("no such file", "there is no server at that socket"), ("could not translate host", "its host is not known"),
        ("no pg_hba.conf entry", "it lets nobody in from here"), ("too many", "it has too many connections"),
        ("ssl", "TLS could not be agreed upon as its URL asks for")) if words in message), "it cannot be connected to")
    gone = "database" in message and "does not exist" in message
    return (NoSuchDatabase if gone else SiteError)(
        f"The database server at {location.shown} cannot be used: {why}.",
        next_step="Check host, name, user and password in the site's configuration.")


def explained(error: BaseException, at: str) -> NostosError | None:
    """What an error of the driver's means for a transaction. at: the item that was being written."""
    if not isinstance(error, psycopg.Error):
        return None
    code = error.sqlstate or ""
    lines = (error.diag.message_primary or str(error) or type(error).__name__).strip().splitlines()[0]
    where = f" at {at}" if at else ""
    if code in _BROKEN_OFF:
        return Disturbed(f"The database broke the changes off{where}, for others were at work there: {lines}.",
                         left="They were all taken back.", next_step="Try again at a quieter moment.")
    if not code or code.startswith(("08", "57P")):
        return Disturbed(f"The connection to the database broke{where}: {lines}.",
                         left="The server has taken the changes back.", next_step="Try again.")
    if code == "42501":
        return MergeRefused(f"The database refused the changes{where}: {lines} ({code}).",
                            left="They were all taken back.",
                            next_step="Name a user in a site file who owns the tables; where row security hides rows "
                                      "from the owner, one with BYPASSRLS.")
    return MergeRefused(f"The database refused the changes{where}: {lines} ({code}).", left="They were all taken back.",
                        next_step=f"Look at {at}, or leave it out." if at else "Look at what the message names.")

