"""Guards: what keeps a staging copy from acting as the live site."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from nostos.core.database.base import Database
from nostos.core.database.schema import Row, Table
from nostos.core.errors import SiteError
from nostos.core.profiles.model import Profile, SettingsTable
from nostos.core.site import Site
from nostos.core.tree.entries import inside
from nostos.core.values import structures


@dataclass(frozen=True)
class Guard:
    """A setting that only staging has."""

    name: str
    value: Any


def guards_of(site: Site, facts: Mapping[str, str]) -> list[Guard]:
    """The guards of a site's profile and of its site file. facts fill what they leave open, such as {voyage}."""
    return [Guard(name, _filled(value, facts)) for name, value in {**site.profile.guards, **site.guards}.items()]


def _filled(value: Any, facts: Mapping[str, str]) -> Any:
    if isinstance(value, str):
        for name, fact in facts.items():
            value = value.replace("{" + name + "}", fact)
        return value
    if isinstance(value, dict):
        return {k: _filled(v, facts) for k, v in value.items()}
    return [_filled(v, facts) for v in value] if isinstance(value, list) else value


def lay_guard_file(profile: Profile, files: Path, facts: Mapping[str, str]) -> list[Guard]:
    """Lay the profile's guard into staging's files; it is never compared and never goes home. Returns what it does."""
    guard = profile.guard_file
    if guard is None:
        return []
    text = guard.text
    for name, fact in facts.items():
        # The text is a program: nothing but plain words may get into it.
        text = text.replace("{" + name + "}", re.sub(r"[^\w .:+-]", "", fact))
    path = inside(files, guard.path)
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(text, encoding="utf-8")
    return [Guard(guard.path, guard.does)]


def set_guards(site: Site, database: Database, guards: list[Guard]) -> None:
    """Set the guards in staging's settings, inside a transaction that the caller holds.

    Raises SiteError when a guard names a setting that cannot be changed.
    """
    settings = site.profile.settings
    assert settings is not None
    table = database.tables().get(settings.table)
    if table is None:
        raise SiteError(f"The table {settings.table}, where settings are kept, is missing.",
                        next_step="Check the profile.")
    for guard in guards:
        _set(database, table, settings, guard)


def _set(database: Database, table: Table, settings: SettingsTable, guard: Guard) -> None:
    found = database.find(table, {settings.name: guard.name})
    value = guard.value
    name, _, inner = guard.name.partition(".")
    if not found and inner:
        found = database.find(table, {settings.name: name})
        if found:
            tree = structures.read(str(found[0][settings.value]))
            if tree is None or not isinstance(tree.data, dict):
                raise SiteError(f"The guard {guard.name} names a key, but the setting {name} is no structure.",
                                next_step="Check [guards] in the site file.")
            changed = structures.put(tree.data, tuple(inner.split(".")), value, object())
            database.update(table, table.key_of(found[0]), {settings.value: tree.style.write(changed)})
            return
    text = json.dumps(value, ensure_ascii=False) if settings.format == "json" else str(value)
    if found:
        database.update(table, table.key_of(found[0]), {settings.value: text})
        return
    row: Row = {settings.name: guard.name, settings.value: text}
    database.insert(table, row)
