"""Choosing what goes home: patterns, the rule when none is given, and closing a choice over its needs."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from difflib import get_close_matches
from fnmatch import fnmatchcase

from nostos.core.errors import SelectionError
from nostos.core.fields import Standing
from nostos.core.items import Comparison, Item
from nostos.core.needs import Need, Needs

Exists = Callable[[str], bool]  # whether an item of this name is on live at all


@dataclass(frozen=True)
class Chosen:
    """An item that goes home; because: the need that pulled it in (None: it was chosen)."""

    item: Item
    because: Need | None


@dataclass(frozen=True)
class Selection:
    """What goes home, what could have and stays, and what cannot because it clashes."""

    chosen: tuple[Chosen, ...]
    left: tuple[Item, ...]
    clashes: tuple[Item, ...]
    unmoved: tuple[str, ...] = ()  # patterns that name things with nothing to take home

    @property
    def items(self) -> list[Item]:
        return [c.item for c in self.chosen]


def matching(items: Iterable[str], patterns: Sequence[str]) -> set[str]:
    return {i for i in items if any(fnmatchcase(i, p) for p in patterns)}


def nearest(comparison: Comparison, pattern: str) -> str:
    """Advice for a pattern that matches nothing."""
    near = get_close_matches(pattern, list(comparison.items), n=3, cutoff=0.4)
    return f"Nearest names: {', '.join(near)}." if near else "`nostos compare` lists the names."


def choose(comparison: Comparison, needs: Needs, take: Sequence[str], leave: Sequence[str],
           exists: Exists = lambda _: False) -> Selection:
    """The items to take home.

    With no `take`, that is everything that can go home and is not made by visitors. Raises SelectionError when a
    pattern matches nothing, or when a chosen item needs one that `leave` forbids.
    """
    unmoved = [p for p in (*take, *leave) if not matching(comparison.items, [p]) and exists(p)]
    for pattern in (*take, *leave):
        if not matching(comparison.items, [pattern]) and pattern not in unmoved:
            table = pattern.partition("/")[0]
            if table in comparison.rows.skipped:
                raise SelectionError(f"The table {table} has no key, so nothing in it can be taken home.",
                                     next_step=f"Give {table} a primary key on both sides, then clone again.")
            raise SelectionError(f"Nothing that changed is called {pattern}.", next_step=nearest(comparison, pattern))
    movable = [i for i in comparison.items.values() if i.id in needs]
    wanted = matching((i.id for i in movable), take) if take else {i.id for i in movable if not i.visitors}
    forbidden = matching(comparison.items, leave)
    wanted -= forbidden
    chosen: dict[str, Need | None] = dict.fromkeys(sorted(wanted))
    queue = list(chosen)
    while queue:
        name = queue.pop(0)
        for need in needs[name]:
            if need.on in forbidden:
                raise SelectionError(f"{_chain(chosen, need)}, and --leave forbids {need.on}.",
                                     next_step=f"Leave {need.item} out as well, or let {need.on} go home.")
            if need.on not in chosen:
                chosen[need.on] = need
                queue.append(need.on)
    return Selection(
        tuple(Chosen(comparison.items[n], because) for n, because in sorted(chosen.items())),
        tuple(i for i in movable if i.id not in chosen),
        tuple(i for i in comparison.items.values() if i.standing is Standing.CLASH),
        tuple(unmoved))


def _chain(chosen: dict[str, Need | None], need: Need) -> str:
    """Why something is needed, back to what was chosen."""
    steps = [need]
    while (before := chosen.get(steps[0].item)) is not None:
        steps.insert(0, before)
    return ", which ".join([f"{steps[0].item} needs {steps[0].on} ({steps[0].reason})",
                            *(f"needs {s.on} ({s.reason})" for s in steps[1:])])
