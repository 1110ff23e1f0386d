"""Site files and systems' own configuration files: read as data, changed in place, never run."""

from __future__ import annotations

import io
import os
import re
import tomllib
from collections.abc import Mapping, Sequence
from contextlib import closing
from pathlib import Path
from typing import IO, Any

from nostos.core.errors import SiteError
from nostos.core.expressions import expression
from nostos.core.hosts.far_path import AnyPath, host_of
from nostos.core.hosts.running import LENT, variable

SITE_FILE = "nostos.toml"
_LARGEST = 1 << 20
_VARIABLE = expression(r"\$\{([A-Za-z_][A-Za-z0-9_]*)\}")


def read_bounded(path: AnyPath) -> bytes:
    """The content of a configuration file. Raises SiteError when it cannot be read or is too large to be one."""
    return whose(path)[0]


def whose(path: AnyPath) -> tuple[bytes, tuple[int, int] | None]:
    """What a configuration file holds, and owner and mode of the very file that was opened; None where it is on another
    machine. Raises SiteError as `read_bounded` does."""
    status = None
    try:
        with closing(_opened(path)) as file:
            if isinstance(path, Path):
                info = os.fstat(file.fileno())
                status = info.st_uid, info.st_mode
            content = file.read(_LARGEST + 1)
    except OSError as error:
        raise SiteError(f"{path} cannot be read: {error.strerror}.", next_step="Check the path and rights.") from error
    if len(content) > _LARGEST:
        raise SiteError(f"{path} is over 1 MB, which no configuration is.", next_step="Check the path.")
    return content, status


def _opened(path: AnyPath) -> IO[bytes]:
    return path.open("rb") if isinstance(path, Path) else io.BytesIO(path.read_bytes(_LARGEST + 1))


def read_toml(path: AnyPath) -> dict[str, Any]:
    """The tables of a TOML file. Raises SiteError when it cannot be read."""
    return toml(path, read_bounded(path))


def toml(path: AnyPath, content: bytes) -> dict[str, Any]:
    """The tables of a TOML file with this content. Raises SiteError when it is none."""
    try:
        return tomllib.loads(content.decode())
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise SiteError(f"{path} is not valid TOML: {error}.", next_step="Mend the file and try again.") from error


def dotted(data: Mapping[str, Any], key: str) -> Any:
    """The value at a dotted key, or None."""
    value: Any = data
    for part in key.split("."):
        if not isinstance(value, Mapping) or part not in value:
            return None
        value = value[part]
    return value


def other_database(path: AnyPath, old: str, new: str) -> str | None:
    """A site file's database URL with another database's name, where it takes its secrets from the environment.

    None where it does not: then there is nothing to keep out of a file.
    """
    raw = dotted(read_toml(path), "site.database")
    if not isinstance(raw, str) or not _VARIABLE.search(raw):
        return None
    base, mark, query = raw.partition("?")
    return f"{base.removesuffix(old)}{new}{mark}{query}" if base.endswith(f"/{old}") else None


def expand(value: str, path: AnyPath) -> str:
    """`${VAR}` in a site file replaced from the environment of the machine that the file is on. Raises SiteError when a
    variable is not set there."""
    def one(match: re.Match[str]) -> str:
        name = match.group(1)
        filled = variable(path, name)
        if filled is None and host_of(path):
            raise SiteError(
                f"{path} asks for the variable {name}, which is not set on {host_of(path)}.",
                next_step=f"Write the value into that file, or, if that host may know it, set it here and lend it: "
                          f"{LENT}={name}.")
        if filled is None:
            raise SiteError(f"The environment variable {name} is not set.",
                            next_step=f"Set {name}, or write the value into the site file.")
        return filled

    return _VARIABLE.sub(one, value)


def rewritten_toml(content: bytes, changes: Mapping[str, str], add: Sequence[str] = ()) -> bytes:
    """A TOML file with other values for dotted keys that it has already, and for those of `add` in tables that it has;
    every other line, comments too, stays as it is."""
    import tomlkit

    document = tomlkit.parse(content.decode())
    for key, value in changes.items():
        *parents, last = key.split(".")
        table: Any = document
        for part in parents:
            table = table.get(part) if table is not None else None
        if table is not None and (last in table or key in add):
            table[last] = value
    return tomlkit.dumps(document).encode()
