"""Guards: what keeps a staging copy from acting as the live site."""

from __future__ import annotations

import hashlib
import hmac
import json
import re
import secrets
from collections.abc import Mapping
from typing import Any

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row, Table
from nostos.core.errors import SiteError
from nostos.core.files.tree import FileTree
from nostos.core.profiles.model import Profile
from nostos.core.profiles.parts import SettingsTable
from nostos.core.records import dataclass
from nostos.core.sites.recognise import Site
from nostos.core.values import structures

_ROUNDS = 100_000


@dataclass(frozen=True)
class Guard:
    """A setting that only staging has."""

    name: str
    value: Any


def guards_of(site: Site, facts: Mapping[str, str]) -> list[Guard]:
    """The guards of a site's profile and of its site file. facts fill what they leave open, such as {voyage}."""
    guards = [Guard(name, _filled(value, facts)) for name, value in {**site.profile.guards, **site.guards}.items()]
    if site.profile.gate_setting and facts.get("gate"):
        guards.append(Guard(site.profile.gate_setting, facts["gate"]))
    return guards


def gate(name: str, password: str) -> str:
    """What a copy's pages are to ask for, as a guard keeps it: the name, rounds, salt and hash (PBKDF2, RFC 8018).

    Raises SiteError for a name that cannot be one, or no password.
    """
    if not re.fullmatch(r"[\w.-]{1,40}", name, re.ASCII) or not password:
        raise SiteError("A gate needs a name of letters, digits, dots and dashes, and a password.",
                        next_step="Name another with --gate.")
    salt = secrets.token_hex(16)
    made = hashlib.pbkdf2_hmac("sha256", password.encode(), salt.encode(), _ROUNDS)
    return f"{name}:{_ROUNDS}:{salt}:{made.hex()}"


def opens(answer: str, name: str, password: str) -> bool:
    """Whether a name and a password are those of a gate."""
    parts = answer.split(":")
    if len(parts) != 4 or not parts[1].isdigit():
        return False
    made = hashlib.pbkdf2_hmac("sha256", password.encode(), parts[2].encode(), int(parts[1])).hex()
    return hmac.compare_digest(parts[0], name) and hmac.compare_digest(parts[3], made)


def _filled(value: Any, facts: Mapping[str, str]) -> Any:
    if isinstance(value, str):
        for name, fact in facts.items():
            value = value.replace("{" + name + "}", fact)
        return value
    if isinstance(value, dict):
        return {k: _filled(v, facts) for k, v in value.items()}
    return [_filled(v, facts) for v in value] if isinstance(value, list) else value


def lay_guard_file(profile: Profile, tree: FileTree, facts: Mapping[str, str]) -> list[Guard]:
    """Lay the profile's guard into staging's files; it is never compared and never goes home. Returns what it does."""
    guard = profile.guard_file
    if guard is None:
        return []
    text = guard.text
    for name, fact in facts.items():
        # The text is a program: nothing but plain words may get into it.
        text = text.replace("{" + name + "}", re.sub(r"[^\w .:+-]", "", fact))
    tree.make_above(guard.path, lambda _: (0o755, None))
    tree.remove(guard.path)
    tree.write(guard.path, text.encode(), 0o644)
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
    rows = database.find(table, {settings.name: guard.name})
    value = guard.value
    name, _, inner = guard.name.partition(".")
    if not rows and inner:
        rows = database.find(table, {settings.name: name})
        if rows:
            tree = structures.read(str(rows[0][settings.value]))
            if tree is None or not isinstance(tree.data, dict):
                raise SiteError(f"The guard {guard.name} names a key, but the setting {name} is no structure.",
                                next_step="Check [guards] in the site file.")
            changed = structures.put(tree.data, tuple(inner.split(".")), value, object())
            database.update(table, table.key_of(rows[0]), {settings.value: tree.style.write(changed)})
            return
    text = json.dumps(value, ensure_ascii=False) if settings.format == "json" else str(value)
    if rows:
        database.update(table, table.key_of(rows[0]), {settings.value: text})
        return
    row: Row = {settings.name: guard.name, settings.value: text}
    database.insert(table, row)
