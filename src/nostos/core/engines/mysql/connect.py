"""Connecting to a MariaDB or MySQL server: what a database's URL asks for, and what the driver's errors mean."""

from __future__ import annotations

import importlib
from contextlib import suppress
from typing import Any

from nostos.core.database.registry import Location
from nostos.core.errors import Disturbed, MergeRefused, NostosError, NoSuchDatabase, SiteError
from nostos.core.hosts.connection import Forward, Server, reach, sought

_TLS = ("ssl_ca", "ssl_cert", "ssl_key", "ssl_key_password", "ssl_verify_cert", "ssl_verify_identity")
_SECONDS = ("connect_timeout", "read_timeout", "write_timeout")
_IGNORED = ("charset", "unix_socket")  # what is text goes as UTF-8 in any case; the socket is seen to by itself
# The transaction was broken off, and nothing of it is there: a deadlock, a lock that was not to be had, a snapshot that
# is too old; or the connection was.
_BROKEN_OFF = {1213, 1205, 3572, 1020, 1412, 1180}
_GONE = {0, 2006, 2013, 2055, 1053, 1927, 4031, 1152, 1184}


def driver() -> Any:
    """mysqlclient where it is installed, for it reads bulk several times faster; else PyMySQL."""
    with suppress(ImportError):
        return importlib.import_module("MySQLdb")
    return importlib.import_module("pymysql")


def conversions(of: Any) -> dict[Any, Any]:
    conversions: dict[Any, Any] = importlib.import_module(f"{of.__name__}.converters").conversions
    return conversions


def connect(location: Location, of: Any) -> Any:
    """A connection. Raises SiteError where none is to be had, and where it is not as its URL asks for."""
    url, name = location.url, str(location.url.database)
    options: dict[str, Any] = {"user": url.username or "", "password": url.password or "", "database": name,
                               "charset": "utf8mb4", "autocommit": True, "use_unicode": False,
                               "client_flag": importlib.import_module(
                                   f"{of.__name__}.constants.CLIENT").MULTI_STATEMENTS,  # many in one request
                               # How values are written into statements; results come as the server sends them.
                               "conv": {k: v for k, v in conversions(of).items() if not isinstance(k, int)}}
    if url.query.get("unix_socket"):
        options["unix_socket"] = url.query["unix_socket"]
        if of.__name__ == "pymysql" and not any(name in _TLS for name in url.query):
            options["ssl_disabled"] = True  # else it is tried each time, which takes longer than all the rest
    else:
        options.update(host=url.host or "localhost", port=url.port or 3306)
    tls = _asked(location, options, of.__name__)
    way = _through_host(location, options) if location.host else None
    if of.__name__ == "MySQLdb":
        options.update(db=options.pop("database"), passwd=options.pop("password"))
    try:
        made = of.connect(**options)
    except of.MySQLError as error:
        if way is not None and way.failed:
            raise SiteError(f"The database server at {location.shown}, cannot be reached from there: {way.failed}.",
                            next_step="Check the host in the site's configuration, and that the server runs.") from None
        raise _refused(location, error, tls) from None
    except OSError as error:  # a certificate's file
        raise SiteError(f"The TLS options in the database's URL cannot be used: {error.strerror or error}.",
                        next_step="Check the paths that they name.") from error
    if tls:
        cursor = made.cursor()
        cursor.execute("SHOW SESSION STATUS LIKE 'Ssl_cipher'")
        row = cursor.fetchone()
        cursor.close()
        if not row or not row[1]:
            made.close()
            raise SiteError(f"The database server at {location.shown} does not offer TLS, which its URL asks for.",
                            next_step="Ask the host for it, or leave the TLS options out of the URL.")
    return made


def servers(location: Location) -> list[Server]:
    """Where the server is looked for, as the site's own machine sees it."""
    url = location.url
    socket = str(url.query.get("unix_socket") or "")
    return sought("localhost" if socket else url.host or "localhost", 3306 if socket else url.port or 3306, socket)


def _through_host(location: Location, options: dict[str, Any]) -> Forward:
    """Lead the connection through the host that the URL sees things as."""
    options.pop("port", None)
    options["unix_socket"] = (way := reach(location.host).forward(*servers(location))).path
    return way


def _asked(location: Location, options: dict[str, Any], of: str) -> bool:
    """Put what the URL asks for into the options. Returns whether TLS is asked for."""
    arguments: dict[str, Any] = {}
    for name, option in location.url.query.items():
        value = str(option)
        if name in _SECONDS and value.isdigit():
            options[name] = int(value)
        elif name in ("ssl_verify_cert", "ssl_verify_identity") and value.lower() in ("true", "1", "false", "0"):
            arguments[name] = value.lower() in ("true", "1")
        elif name in _TLS and name not in ("ssl_verify_cert", "ssl_verify_identity"):
            arguments[name] = value
        elif name not in _IGNORED:
            raise SiteError(f"The option {name} in the database's URL is not known, or its value cannot be read.",
                            next_step=f"Known are: {', '.join((*_SECONDS, *_TLS, 'unix_socket'))}.")
    if arguments and arguments.get("ssl_ca") and "ssl_verify_cert" not in arguments:
        arguments["ssl_verify_cert"] = True
    if of == "MySQLdb" and arguments:
        options["ssl"] = {k: arguments[f"ssl_{k}"] for k in ("ca", "cert", "key") if f"ssl_{k}" in arguments}
        options["ssl_mode"] = ("VERIFY_IDENTITY" if arguments.get("ssl_verify_identity") else
                               "VERIFY_CA" if arguments.get("ssl_verify_cert") else "REQUIRED")
    else:
        options.update(arguments)
    return bool(arguments)


def _refused(location: Location, error: Any, tls: bool) -> SiteError:
    number = error.args[0] if error.args else "?"
    reasons: dict[Any, str] = {
        1045: "it does not accept the user name or password", 1049: f"it has no database {location.url.database}",
        1044: f"the user may not use {location.url.database}", 2002: "it does not answer", 2003: "it does not answer",
        2005: "its host is not known", 2026: "TLS could not be agreed upon", 1040: "it has too many connections",
        1203: "its user has too many connections"}
    why = reasons.get(number, f"error {number}")
    if tls and number in (2002, 2003, 2006, 2013, 2026, "?"):
        why = "TLS could not be agreed upon as its URL asks for, or it does not answer"
    return (NoSuchDatabase if number == 1049 else SiteError)(
        f"The database server at {location.shown} cannot be used: {why}.",
        next_step="Check host, name, user and password in the site's configuration.")


def explained(of: Any, error: BaseException, at: str) -> NostosError | None:
    """What an error of the driver's means for a transaction. at: the item that was being written."""
    if not isinstance(error, of.MySQLError):
        return None
    number = error.args[0] if error.args and isinstance(error.args[0], int) else 0
    message = str(error.args[-1]) if error.args and str(error.args[-1]).strip() else type(error).__name__
    where = f" at {at}" if at else ""
    if number in _GONE:
        return Disturbed(f"The connection to the database broke{where}: {message} ({number}).",
                         left="The server has taken the changes back.", next_step="Try again.")
    if number in _BROKEN_OFF:
        return Disturbed(f"The database broke the changes off{where}, for others were at work there: {message} "
                         f"({number}).", left="They were all taken back.", next_step="Try again at a quieter moment.")
    return MergeRefused(f"The database refused the changes{where}: {message} ({number}).",
                        left="They were all taken back.",
                        next_step=f"Look at {at}, or leave it out." if at else "Look at what the message names.")
