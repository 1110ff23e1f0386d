"""Tables whose rows a copy does without, such as logs: they are there, empty, and never compared."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

from nostos.core.database.schema import Table
from nostos.core.errors import SiteError
from nostos.core.patterns import matches
from nostos.core.profiles.model import Profile
from nostos.core.sites.recognise import Site


def left_out(patterns: Sequence[str], tables: Mapping[str, Table], profile: Profile) -> tuple[str, ...]:
    """The tables that these patterns name. Raises SiteError when one names none, or when something that is copied would
    point at what is left out."""
    for pattern in patterns:
        if not any(matches(n, (pattern,)) for n in tables):
            raise SiteError(f"There is no table {pattern} whose rows could be left out.", left="Live was only read.",
                            next_step="`nostos survey` lists the tables.")
    names = tuple(sorted(n for n in tables if matches(n, patterns)))
    for place, target in _pointing(tables, profile):
        if target in names and place.rpartition(".")[0] not in names:
            raise SiteError(f"The rows of {target} cannot be left out: {place} points at them.",
                            left="Live was only read; what was made is removed.",
                            next_step=f"Leave out those of {place.rpartition('.')[0]}, too, or none of both.")
    if profile.settings is not None and set(profile.settings.tables) & set(names):
        raise SiteError(f"The rows of {profile.settings.table} cannot be left out: they are the site's settings.",
                        left="Live was only read; what was made is removed.")
    return names


def _pointing(tables: Mapping[str, Table], profile: Profile) -> Iterator[tuple[str, str]]:
    """Columns that point at rows of a table, and that table."""
    for table in tables.values():
        for fk in table.foreign_keys:
            yield f"{table.name}.{fk.columns[0]}", fk.target
    for r in profile.references:
        if r.to and not r.weak and r.table in tables:
            yield f"{r.table}.{r.column}", r.to
    for child in profile.children:
        yield f"{child.table}.{child.of}", child.owner


def could_be(tables: Mapping[str, Table], profile: Profile, sizes: Mapping[str, tuple[int, int]]
             ) -> list[tuple[str, int]]:
    """Big tables of which nothing knows more, and at whose rows nothing points: their names and bytes."""
    known = {k.table for k in profile.kinds if not k.natural} | {c.table for c in profile.children} | {
        target for _, target in _pointing(tables, profile)}
    whole = sum(size for _, size in sizes.values())
    candidates = [(n, sizes[n][1]) for n in tables if n in sizes and n not in known
             and sizes[n][1] > max(1 << 20, whole // 20)]
    return sorted(candidates, key=lambda f: -f[1])


def without(site: Site, names: Sequence[str]) -> Site:
    """The site, whose rows in these tables are not compared."""
    if not names:
        return site
    return replace(site, profile=replace(site.profile, volatile=(*site.profile.volatile, *names)))
