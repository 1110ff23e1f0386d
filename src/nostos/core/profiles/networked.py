"""What a profile says of an installation's first site, said of every other one."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import fields, is_dataclass, replace
from typing import Any

from nostos.core.profiles.model import Profile
from nostos.core.profiles.network import Network, kind_in

_NAMES_A_TABLE = frozenset({"table", "to", "owner", "source", "counts"})  # fields of a profile's parts
_PARTS = ("kinds", "children", "references", "files", "made_files", "policies", "derived", "joins", "activities",
          "masks", "trees",
          "nested", "slugs", "along", "closed")


def networked(profile: Profile, tables: Iterable[str]) -> Profile:
    """The profile with what it says of the first site said of every other one that has tables here."""
    network = profile.network
    numbers = network.numbers(tables) if network is not None else []
    if network is None or not numbers or profile.networked:
        return profile
    more: dict[str, Any] = {}
    for name in _PARTS:
        old = getattr(profile, name)
        more[name] = (*old, *(new for n in numbers for part in old if (new := _for(part, n, network)) is not None))
    more["prefixed"] = (*profile.prefixed, *(
        (network.table(n, t), c, tuple(f"{n}_{p}" for p in patterns))
        for n in numbers for t, c, patterns in profile.prefixed if t in network.tables))
    for name in ("volatile", "clear"):
        old = getattr(profile, name)
        more[name] = (*old, *(f"{n}_{p}" for n in numbers for p in old))
    settings = profile.settings
    if settings is not None and settings.table in network.tables:
        more["settings"] = replace(settings, also=tuple(network.table(n, settings.table) for n in numbers))
    return replace(profile, networked=True, **more)


def _for(part: Any, number: int, network: Network) -> Any:
    """A part of a profile for another site; None where it says nothing of a site's own tables."""
    moved = _moved(part, number, network)
    if moved == part:
        return None
    values = {f.name: getattr(moved, f.name) for f in fields(moved)}
    if "folder" in values and values["folder"] == network.files:
        values["folder"] = network.folder.replace("{n}", str(number))
    if type(part).__name__ in ("Kind", "Activity"):
        values["name"] = kind_in(values["name"], number, network.first)
    return replace(moved, **{k: v for k, v in values.items() if v != getattr(moved, k)})


def _moved(value: Any, number: int, network: Network) -> Any:
    if not is_dataclass(value) or isinstance(value, type):
        return value
    changed = {}
    for f in fields(value):
        old = getattr(value, f.name)
        new = old
        if isinstance(old, str) and f.name in _NAMES_A_TABLE and old in network.tables:
            new = network.table(number, old)
        elif is_dataclass(old):
            new = _moved(old, number, network)
        elif isinstance(old, tuple):
            new = tuple(_moved(one, number, network) for one in old)
        if new != old:
            changed[f.name] = new
    return replace(value, **changed) if changed else value
