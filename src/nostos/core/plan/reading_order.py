"""The order in which people think of what changed: pages before settings, parts below what they are part of, and a
table with its rows below the update that brought it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from nostos.core.compare.items import Comparison, Item
from nostos.core.plan.needs import Needs
from nostos.core.profiles.model import Profile
from nostos.core.profiles.parts import GROUPS

_AFTER = len(GROUPS)


def in_reading_order(items: Iterable[Item], comparison: Comparison, needs: Needs
                     ) -> list[tuple[tuple[str, ...], Item]]:
    """Items, each with those that it stands below, the nearest last."""
    shown = {i.id: i for i in items}
    steps = {i.id for i in shown.values() if i.schema}
    under: dict[str, str] = {}
    for item in shown.values():
        if item.part_of in shown:
            under[item.id] = item.part_of
        elif item.folder:
            under |= {n.on: item.id for n in needs.get(item.id, ()) if n.on in steps}
    tables = {i.schema[0].table: i.id for i in shown.values() if i.schema and i.schema[0].what == "table"}
    for item in shown.values():
        of = item.schema[0].table if item.schema else item.root[0] if item.root is not None else ""
        table = tables.get(of)  # rows of a new table stand below it
        if table is not None and table != item.id and item.id not in under:
            under[item.id] = table
    below: dict[str, list[Item]] = {}
    for item in shown.values():
        below.setdefault("" if _in_a_circle(item.id, under) else under.get(item.id, ""), []).append(item)
    profile = comparison.rows.profile

    def rank(item: Item) -> tuple[int, str, str]:
        return group_of(item, profile), item.kind, item.id

    ordered: list[tuple[tuple[str, ...], Item]] = []
    waiting: list[tuple[tuple[str, ...], Item]] = [((), i) for i in sorted(below.get("", ()), key=rank, reverse=True)]
    while waiting:
        over, item = waiting.pop()
        ordered.append((over, item))
        waiting += [((*over, item.id), i) for i in sorted(below.get(item.id, ()), key=rank, reverse=True)]
    return ordered


def _in_a_circle(name: str, under: Mapping[str, str]) -> bool:
    seen: list[str] = []
    while name in under and name not in seen:
        seen.append(name)
        name = under[name]
    return name in seen


def is_of_the_whole_site(item: Item, profile: Profile) -> bool:
    """Whether what an item is may show on every page: a setting, a menu, a design, an extension."""
    group = group_of(item, profile)
    return group < _AFTER and GROUPS[group] in ("menus", "settings", "design", "updates")


def group_of(item: Item, profile: Profile) -> int:
    """Where an item's group stands among `GROUPS`, or after them: as the profile says, or by what it is made of."""
    table = item.root[0] if item.root is not None else ""
    groups: Sequence[str] = [f.group for f in profile.folders if item.folder and f.kind == item.kind] or [
        k.group for k in profile.kinds if k.table == table and k.name == item.kind]
    if groups and groups[0]:
        return GROUPS.index(groups[0])
    if item.schema:
        return GROUPS.index("structure")
    if item.folder:
        return GROUPS.index("updates")
    if not item.rows and item.files:
        return GROUPS.index("files")
    if profile.settings is not None and table == profile.settings.table:
        return GROUPS.index("settings")
    if profile.is_account(item.kind) or not item.title:
        return _AFTER
    return GROUPS.index("content")
