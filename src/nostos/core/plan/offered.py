"""What a person may choose from a comparison, with what follows from it: for a page that is filled in elsewhere.

The rules are those of `selection.choose`; a page that keeps to these facts needs nothing else to follow them.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from nostos.core.anchor.names import Side
from nostos.core.anchor.open_voyage import Crew
from nostos.core.compare.field_merge import Standing
from nostos.core.compare.items import Comparison
from nostos.core.errors import NostosError
from nostos.core.plan.decisions import Decision
from nostos.core.plan.needs import Needs
from nostos.core.plan.prepared import compare_voyage
from nostos.core.plan.selection import Choice, choose
from nostos.core.plan.selection_file import seen
from nostos.core.records import dataclass


@dataclass(frozen=True)
class Offer:
    """What can be done with an item. usual: it goes where nothing is chosen. careful: it goes only when it is named.
    clash: it goes only when it is decided for staging. fields: those that clash in it. needs: what goes along, and why.
    seen: how it stands, and a digest of it."""

    usual: bool
    careful: bool
    clash: bool
    needs: tuple[tuple[str, str], ...]
    seen: str
    fields: tuple[str, ...] = ()


def offers(crew: Crew, comparison: Comparison, needs: Needs) -> dict[str, Offer]:
    """What can go home, by items' names: as they stand, and once clashes are decided. Reads both sites again if there
    are clashes."""
    clashes = [i.id for i in comparison.items.values() if i.standing is Standing.CLASH]
    decided: Mapping[str, Sequence[object]] = {}
    after = comparison
    if clashes:
        def for_staging(offers: Comparison) -> Choice:
            return Choice(prefer=tuple(Decision(i.id, Side.STAGING) for i in offers.items.values()
                                       if i.standing is Standing.CLASH))

        try:
            after, all_needs = compare_voyage(crew, made_for=for_staging)
            decided = {name: () for name in clashes if name in all_needs and _itself(comparison, name)}
        except NostosError:  # one of them cannot be decided so: they are all left to the command line
            all_needs = needs
    else:
        all_needs = needs
    usual = {c.item.id for c in choose(comparison, needs, Choice()).chosen}
    offers = {}
    for name in (*needs, *(n for n in all_needs if n not in needs)):
        item = comparison.items.get(name) or after.items[name]
        need = all_needs.get(name, needs.get(name, ()))
        fields = tuple(f.name for f in item.fields if f.standing is Standing.CLASH) if name in decided else ()
        offers[name] = Offer(name in usual, item.careful, name in decided, tuple((n.on, n.reason) for n in need),
                            seen(item), fields)
    return offers


def _itself(comparison: Comparison, name: str) -> bool:
    """Whether an item clashes by what is in it, and not for what it needs."""
    item = comparison.items[name]
    return any(f.standing is Standing.CLASH for f in item.fields) or item.change == "removed"
