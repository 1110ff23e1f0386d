"""A site's profile as comparing needs it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

from nostos.core.database.schema import Table
from nostos.core.learning.findings import Layer
from nostos.core.profiles.model import Profile
from nostos.core.profiles.parts import FieldPolicy
from nostos.core.profiles.policies import LOCAL
from nostos.core.sites.recognise import Site


def effective_profile(site: Site, tables: Mapping[str, Table], layers: Iterable[Layer] = ()) -> Profile:
    """The site's profile with what the schema adds and with its guards made local."""
    profile = site.full_profile(tables)
    for layer in layers:
        profile = layer.over(profile)
    settings = profile.settings
    if settings is None:
        return profile
    local = []
    for name in filter(None, (*profile.guards, *site.guards, profile.gate_setting)):
        head, _, inner = name.partition(".")
        local.append(FieldPolicy(settings.table, settings.value, LOCAL, ((settings.name, name),)))
        if inner:
            local.append(FieldPolicy(settings.table, settings.value, LOCAL, ((settings.name, head),),
                                     tuple(inner.split("."))))
    return replace(profile, policies=(*local, *profile.policies))
