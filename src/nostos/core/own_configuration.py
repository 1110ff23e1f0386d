"""A site's own configuration files, made to speak of a copy of it: its URL, its database, its prefix."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

import sqlalchemy as sa

from nostos.core import configuration, php_configuration
from nostos.core.database import NONE, Location
from nostos.core.profiles.model import Configuration


@dataclass(frozen=True)
class Own:
    """What a copy's configuration says. location: with its password. database: how a site file writes it, if not as
    its URL. files: the tree, relative to `folder`; None: there is none. prefixed: the prefix is another than before."""

    folder: Path
    url: str
    location: Location
    files: str | None
    prefixed: bool
    database: str | None = None


def adapt(own: Own, names: Iterable[str], system: Configuration | None) -> None:
    """Change these files, which are in the copy's folder already. system: the profile's word on its configuration."""
    file, location = own.location.file, own.location
    if location.none:
        path, url = "", NONE
    elif file is not None:
        path = (file.relative_to(own.folder) if file.is_relative_to(own.folder) else file).as_posix()
        url = f"sqlite:///{path}"
    else:
        path, url = "", own.database or location.url.render_as_string(hide_password=False)
    changes = {"site.url": own.url, "site.database": url, "site.prefix": location.prefix,
               "site.files": NONE if own.files is None else own.files or "."}
    for name in names:
        if system is None or Path(name).name != system.file:
            configuration.rewrite_toml(own.folder / name, changes, ("site.prefix",) if own.prefixed else ())
        elif system.format == "php-constants":
            php_configuration.rewrite(own.folder / name, {
                "DB_NAME": str(location.url.database), "DB_USER": location.url.username or "",
                "DB_PASSWORD": location.url.password or "", "DB_HOST": _php_host(location.url),
                "WP_HOME": own.url, "WP_SITEURL": own.url}, location.prefix)
        else:
            configuration.rewrite_toml(own.folder / name, {system.url: own.url, system.database: path})


def _php_host(url: sa.URL) -> str:
    host = url.host or "localhost"
    host = f"[{host}]" if ":" in host else host
    socket = url.query.get("unix_socket")
    return f"{host}:{socket}" if socket else f"{host}:{url.port}" if url.port else host
