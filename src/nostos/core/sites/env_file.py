"""The `.env` file of a project whose settings are a program: read as text, never run, and written anew.

Lines are `NAME=value`, with or without `export` and quotes, as the usual readers of such files take them.
"""

from __future__ import annotations

import io
import re
from collections.abc import Callable, Iterator, Mapping
from typing import TYPE_CHECKING

from nostos.core.database.registry import Location, locate
from nostos.core.database.url import DatabaseUrl
from nostos.core.errors import SiteError
from nostos.core.expressions import expression
from nostos.core.hosts.far_path import AnyPath, on_machine
from nostos.core.records import dataclass
from nostos.core.sites.site_file import read_bounded

if TYPE_CHECKING:
    from dotenv.parser import Binding

NAME = ".env"
PROGRAM = "manage.py"  # by which such a project's folder is known
_DATABASE = "DATABASE_URL"
ADDRESSES = ("WAGTAILADMIN_BASE_URL", "BASE_URL", "SITE_URL")
_VALUE = expression(r"""(?P<head>[^=]*=[ \t]*)(?P<value>'(?:[^'\\]|\\.)*'|"(?:[^"\\]|\\.)*"|.*?)"""
                    r"(?P<tail>(?:[ \t]+#[^\r\n]*)?\s*)", re.DOTALL)
_SCHEMES = {"postgres": "postgresql", "psql": "postgresql", "pgsql": "postgresql", "mariadb": "mysql",
            "mysql2": "mysql"}


@dataclass(frozen=True)
class EnvFacts:
    """What such a file says."""

    name: str
    url: str
    database: Location


def _bindings(content: bytes) -> Iterator[Binding]:
    """The file's lines, as the usual reader takes them apart: names and values, and what stands for each."""
    from dotenv.parser import parse_stream

    return parse_stream(io.StringIO(content.decode("utf-8", "surrogateescape")))


def values_in(content: bytes) -> dict[str, str]:
    """The values by their names; of one that is set twice, the last."""
    return {b.key: b.value for b in _bindings(content) if b.key is not None and b.value is not None}


def read(folder: AnyPath) -> EnvFacts | None:
    """What the file in a project's folder says; None where it does not say where the database is, or what the site's
    address is. Raises SiteError when it cannot be used."""
    if not (folder / PROGRAM).is_file() or not (folder / NAME).is_file():
        return None
    values = values_in(read_bounded(folder / NAME))
    address = next((values[n] for n in ADDRESSES if values.get(n)), None)
    if not values.get(_DATABASE) or address is None:
        return None
    return EnvFacts(folder.name, address, locate(as_url(values[_DATABASE]), folder))


def as_url(text: str) -> str:
    """A database's URL as it is written here: such files have more words for a kind of database."""
    scheme, mark, rest = text.partition("://")
    return f"{_SCHEMES.get(scheme, scheme)}{mark}{rest}"


def refused(folder: AnyPath) -> SiteError | None:
    """What to do in a project's folder of which nothing could be read; None where it is no such folder."""
    if not (folder / PROGRAM).is_file():
        return None
    return SiteError(
        f"{folder} is a project of the Python web framework, whose settings are a program: they are never run.",
        next_step=f"Write a nostos.toml there ([site] with name, url and database; docs/wagtail.md shows one), or put "
                  f"{_DATABASE} and {ADDRESSES[0]} into {NAME}.")


def rewritten(content: bytes, url: str, location: Location, folder: AnyPath,
              written: Callable[[str], str] = str) -> bytes:
    """The file in a copy's words: its database and address, and what else of its texts `written` changes; every other
    line, comments too, stays as it is."""
    values = values_in(content)
    new: Mapping[str, str] = {**dict.fromkeys((n for n in ADDRESSES if n in values), url),
                              _DATABASE: _database(values[_DATABASE], location, folder)}

    def line(binding: Binding) -> str:
        original = binding.original.string
        if binding.key is None or binding.value is None:
            return original
        value = new.get(binding.key, written(binding.value))
        parts = _VALUE.fullmatch(original)
        if value == binding.value or parts is None:
            return original
        return parts["head"] + _quoted(value) + parts["tail"]

    return "".join(map(line, _bindings(content))).encode("utf-8", "surrogateescape")


def _quoted(value: str) -> str:
    """A value as such a file has it: in single quotes where nothing is read as anything else; in double ones, with what
    these change escaped, where it has single ones itself."""
    if re.fullmatch(r"[^\s'\"#$\\]*", value):
        return value
    if "'" not in value:
        return f"'{value}'"
    return '"' + re.sub(r'([\\"$`])', r"\\\1", value) + '"'


def _database(old: str, location: Location, folder: AnyPath) -> str:
    """The copy's database, as such a file writes it."""
    if location.file is not None:
        path = on_machine(location.file)
        folder_text = f"{on_machine(folder)}/"
        return f"sqlite:///{path.removeprefix(folder_text)}"
    scheme = old.partition("://")[0]
    url: DatabaseUrl = location.url
    return url.set(drivername=scheme).render_as_string(hide_password=False)
