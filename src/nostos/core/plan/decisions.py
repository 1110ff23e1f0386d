"""Deciding clashes: for live, or for staging, an item or one field of it at a time."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from difflib import get_close_matches

from nostos.core.anchor.names import Side
from nostos.core.compare.field_merge import Role, Standing
from nostos.core.compare.gather import overall
from nostos.core.compare.items import Comparison, Field, Item
from nostos.core.errors import SelectionError
from nostos.core.patterns import matching, nearest
from nostos.core.records import dataclass
from nostos.core.values.merging import ABSENT


@dataclass(frozen=True)
class Decision:
    """Which side wins. item: a name or a pattern; field: one field's name (empty: every clash of the item)."""

    item: str
    side: Side
    field: str = ""


def decision(side: str, preference: str, items: Iterable[str]) -> Decision:
    """A decision as it is typed: `page/visit`, `page/*`, or `page/visit:title`."""
    names = list(items)
    item, colon, field = preference.rpartition(":")
    if not colon or matching(names, [preference]) or not matching(names, [item]):
        return Decision(preference, Side(side))
    return Decision(item, Side(side), field)


def decide(comparison: Comparison, decisions: Iterable[Decision], in_the_way: Mapping[str, str]) -> None:
    """Turn clashes into what was decided, in the comparison itself, before its roles may be changed.

    in_the_way: items that clash for what stands in their way, which no decision takes away. Raises SelectionError when
    there is nothing to decide.
    """
    for d in decisions:
        names = sorted(matching(comparison.items, [d.item]))
        if not names:
            raise SelectionError(f"Nothing that changed is called {d.item}.",
                                 next_step=nearest(comparison.items, d.item))
        clashing = [n for n in names if comparison.items[n].standing is Standing.CLASH]
        for name in names:
            if name in in_the_way and name not in clashing:
                raise SelectionError(f"{name} cannot be decided: {in_the_way[name]}.",
                                     next_step="Mend that on one side, or leave the item as it is.")
        if not clashing:
            raise SelectionError(f"{d.item} does not clash, so there is nothing to decide.",
                                 next_step="`nostos compare --standing clash` lists what does.")
        for name in clashing:
            comparison.items[name] = _decided(comparison.items[name], d)


def _decided(item: Item, d: Decision) -> Item:
    gone = item.change == "removed" and bool(item.reason)
    meant = [f for f in item.fields if (f.standing is Standing.CLASH or gone) and d.field in ("", f.name)]
    if not meant and d.field:
        clashing = [f.name for f in item.fields if f.standing is Standing.CLASH]
        near = get_close_matches(d.field, clashing, n=3, cutoff=0.3) or clashing
        raise SelectionError(f"No field {d.field} of {item.id} clashes.", next_step=f"These do: {', '.join(near)}.")
    if gone and d.field:
        raise SelectionError(f"{item.id} was {item.change} on one side: it can only be decided as a whole.",
                             next_step=f"Decide {item.id} without a field.")
    role = Role.SOURCE if d.side is Side.STAGING else Role.TARGET
    fields = tuple(_field(f, role) if f in meant else f for f in item.fields)
    files = tuple(
        replace(f, decided=role) if f.standing is Standing.CLASH and d.field in ("", _file_field(item, f.path)) else f
        for f in item.files)
    return replace(item, fields=fields, files=files, standing=overall(fields), reason="")


def _file_field(item: Item, path: str) -> str:
    return path[len(item.folder) + 1:] if item.folder else "file " + path


def _field(f: Field, role: Role) -> Field:
    m = f.merged
    if role is Role.SOURCE:
        return replace(f, merged=replace(m, standing=Standing.HOMEWARD, result=m.source, decided=role))
    return replace(f, merged=replace(m, standing=Standing.KEPT, result=m.target, decided=role))


def is_decided(item: Item, role: Role | None = None) -> bool:
    """Whether a clash of this item was decided (for one of the two)."""
    return not item.gained and any(
        f.merged.decided is not None and role in (None, f.merged.decided) for f in item.fields)


def brings_back(item: Item) -> bool:
    """Whether something that the target removed comes back, for the source was preferred."""
    return any(f.merged.decided is Role.SOURCE and f.merged.target is ABSENT for f in item.fields)
