"""The PHP configuration file of the content management system: read as text, never run, and written anew."""

from __future__ import annotations

import os
import re
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import sqlalchemy as sa

from nostos.core.database.engines import Location, locate
from nostos.core.database.protocol import told
from nostos.core.errors import SiteError
from nostos.core.profiles.model import Profile
from nostos.core.sites.site_file import read_bounded

_STRING = r"'(?:[^'\\]|\\.)*'|\"(?:[^\"\\]|\\.)*\""
_COMMENT = re.compile(rf"({_STRING})|/\*.*?\*/|(?://|#(?!\[))[^\n]*", re.DOTALL)
_DEFINE = re.compile(rf"\bdefine\s*\(\s*({_STRING})\s*,\s*({_STRING}|[A-Za-z_][^;]*?)\s*\)\s*;", re.DOTALL)
_PREFIX = re.compile(rf"\$table_prefix\s*=\s*({_STRING}|[^;]*?)\s*;")
_ENVIRONMENT = re.compile(rf"(?:\bgetenv\s*\(\s*({_STRING})\s*\)|\$_(?:ENV|SERVER)\s*\[\s*({_STRING})\s*\])"
                          rf"(?:\s*\?[:?]\s*({_STRING}))?")


@dataclass(frozen=True)
class PhpConfiguration:
    """What the file says: where it is, its constants, and where the database is."""

    path: Path
    constants: Mapping[str, str]
    database: Location


def find(folder: Path, name: str) -> Path | None:
    """The configuration file of a site: in its folder, or one folder up where no other site lives."""
    if (folder / name).is_file():
        return folder / name
    above = folder.parent / name
    lives_here = (folder / "wp-settings.php").is_file()
    return above if lives_here and above.is_file() and not (folder.parent / "wp-settings.php").exists() else None


def read(path: Path, engine: str) -> PhpConfiguration:
    """Read the file. engine: of the database that its constants lead to.

    Raises SiteError when it cannot be read or does not say where the database is."""
    text = _text(path)
    constants: dict[str, str] = {}
    for name, value in _DEFINE.findall(_without_comments(text)):
        found = _value(value)
        if found is not None:
            constants.setdefault(_unquoted(name), found)
    for needed in ("DB_NAME", "DB_USER", "DB_PASSWORD", "DB_HOST"):
        if needed not in constants:
            raise SiteError(f"{path} does not say {needed} in a way that can be read without running it.",
                            next_step="Write it as plain text there, or write a site file (docs/guide.md).")
    prefix = _PREFIX.search(_without_comments(text))
    host, port, socket = _host(constants["DB_HOST"])
    url = sa.URL.create(engine, constants["DB_USER"], constants["DB_PASSWORD"], host, port, constants["DB_NAME"],
                        {"unix_socket": socket} if socket else {})
    found_prefix = _value(prefix.group(1)) if prefix else "wp_"
    return PhpConfiguration(path, constants, locate(url.render_as_string(hide_password=False), path.parent,
                                                    found_prefix or "wp_"))


def settings(profile: Profile, said: PhpConfiguration) -> tuple[str, str]:
    """The site's name and base URL: from constants where they are set, else from its settings."""
    table = profile.settings
    assert table is not None and profile.configuration is not None
    database = said.database.open(readonly=True)
    try:
        with told(database):
            tables = database.tables()
        if table.table not in tables:
            raise SiteError(f"The database {said.database.shown} has no table {said.database.prefix}{table.table}.",
                            next_step="Check the table prefix in the configuration, or finish the site's installation.")
        found = {}
        for name in (profile.configuration.name, profile.configuration.url):
            rows = database.find(tables[table.table], {table.name: name})
            found[name] = str(rows[0][table.value]) if rows else ""
    finally:
        database.close()
    url = said.constants.get("WP_HOME") or found[profile.configuration.url]
    name = re.sub(r"[^a-z0-9]+", "-", found[profile.configuration.name].lower()).strip("-")
    return name or said.path.parent.name, url


def _text(path: Path) -> str:
    return read_bounded(path).decode("utf-8", "surrogateescape")


def _without_comments(text: str) -> str:
    return _COMMENT.sub(lambda m: m.group(1) or " ", text)


def _unquoted(literal: str) -> str:
    """The value of a PHP string literal."""
    body = literal[1:-1]
    if literal[0] == "'":
        return re.sub(r"\\(['\\])", r"\1", body)
    return re.sub(r"\\([\"\\$nrt])", lambda m: {"n": "\n", "r": "\r", "t": "\t"}.get(m.group(1), m.group(1)), body)


def _value(expression: str) -> str | None:
    """What an expression says: a string, or a look-up in the environment. None: it would have to be run."""
    expression = expression.strip()
    if re.fullmatch(_STRING, expression):
        return None if expression[0] == '"' and re.search(r"(?<!\\)\$[\w{]", expression) else _unquoted(expression)
    match = _ENVIRONMENT.fullmatch(expression)
    if match is None:
        return None
    value = os.environ.get(_unquoted(match.group(1) or match.group(2)))
    return value or (_unquoted(match.group(3)) if match.group(3) else value)


def _host(text: str) -> tuple[str | None, int | None, str | None]:
    """Host, port and socket of `host`, `host:port`, `host:/socket`, `host:port:/socket`, `[::1]:port`."""
    match = re.fullmatch(r"(\[[0-9a-fA-F:]*\]|[^:]*)(?::(\d+))?(?::(/.*))?", text)
    if match is None:
        raise SiteError("The database's host cannot be read from the configuration.",
                        next_step="Write it as host, host:port or host:/socket.")
    host, port, socket = match.groups()
    return host.strip("[]") or None, int(port) if port else None, socket


def rewritten(content: bytes, constants: Mapping[str, str], prefix: str | None) -> bytes:
    """The file with other values for constants that it defines, and another prefix; every other line, comments too,
    stays as it is."""
    text = content.decode("utf-8", "surrogateescape")
    spans = [m.span() for m in _COMMENT.finditer(text) if m.group(1) is None]

    def live(at: int) -> bool:
        return not any(start <= at < end for start, end in spans)

    changes: list[tuple[int, int, str]] = []
    for match in _DEFINE.finditer(text):
        name = _unquoted(match.group(1))
        if live(match.start()) and name in constants:
            changes.append((*match.span(2), _quoted(constants[name])))
    for match in _PREFIX.finditer(text):
        if prefix is not None and live(match.start()):
            changes.append((*match.span(1), _quoted(prefix)))
    for start, end, new in sorted(changes, reverse=True):
        text = text[:start] + new + text[end:]
    return text.encode("utf-8", "surrogateescape")


def _quoted(value: str) -> str:
    return "'" + value.replace("\\", "\\\\").replace("'", "\\'") + "'"
