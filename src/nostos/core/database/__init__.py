"""Databases: one small protocol, an engine a module."""

from __future__ import annotations

from pathlib import Path

import sqlalchemy as sa

from nostos.core.database.base import Database
from nostos.core.errors import SiteError


def database_path(url: str, folder: Path) -> Path:
    """The file of a SQLite URL; a relative one starts at `folder`. Raises SiteError for other engines or bad URLs."""
    try:
        parsed = sa.make_url(url)
    except sa.exc.ArgumentError:
        # The URL itself is not repeated: it may hold a password.
        raise SiteError("The database URL cannot be read.",
                        next_step="Write it like sqlite:///data/site.db.") from None
    if parsed.get_backend_name() != "sqlite":
        raise SiteError(f"Databases of the kind {parsed.get_backend_name()} are not supported by this version.",
                        next_step="This version works on SQLite: sqlite:///data/site.db.")
    if not parsed.database or parsed.database == ":memory:":
        raise SiteError("The database URL names no file.", next_step="Write it like sqlite:///data/site.db.")
    return folder / parsed.database


def open_database(path: Path, readonly: bool = False) -> Database:
    """Open a site's database. Raises SiteError when it is missing or is not a database."""
    from nostos.core.database.sqlite import SqliteDatabase

    return SqliteDatabase(path, readonly)
