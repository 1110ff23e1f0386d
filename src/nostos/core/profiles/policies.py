"""How fields are compared and merged (design, section 4): one class a policy. Adding a policy is adding a class here.

Each says whether its values are compared, whether they travel, how they are read, merged and shown.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any, ClassVar

from nostos.core.values.merging import ABSENT, merge_sets, merge_text
from nostos.core.values.references import Begun, begun


class Policy:
    """What both sides leave unchanged, or only one of them changes, needs no policy: `merge` is asked for the rest.

    name: as a profile writes it. compared: whether its values are compared at all. travels: whether a value of
    staging's goes home with a row that is born there. sides_own: whether it is each side's own even inside a structure.
    recomputed: worked out afresh on live after a merge. quiet: a change of such a field alone says nothing. structured:
    a text of it is read as a structure; keyed: merged key by key, unordered: as a list without an order. in_pieces: a
    merged value is shown in pieces. placed: it is a place in a tree, or follows from one, and is given out anew.
    """

    name: ClassVar[str]
    compared = True
    travels = True
    sides_own = False
    recomputed = False
    quiet = False
    structured = False
    keyed = False
    unordered = False
    in_pieces = False
    placed = False
    every: ClassVar[dict[str, Policy]] = {}

    def __init_subclass__(cls) -> None:
        cls.every[cls.name] = cls()

    def merge(self, base: Any, live: Any, staging: Any) -> Any:
        """One value with both sides' changes; ABSENT when they cannot both be had, which is a clash."""
        return ABSENT

    def __str__(self) -> str:
        return self.name


class Plain(Policy):
    name = "plain"


class Newest(Policy):
    """Times of changes: the later one."""

    name = "newest"
    quiet = True

    def merge(self, base: Any, live: Any, staging: Any) -> Any:
        alike = isinstance(live, str | int | float) and type(live) is type(staging)
        return max(live, staging) if alike else ABSENT


class UnorderedList(Policy):
    """Lists in which only what is in them counts."""

    name = "set"
    structured = unordered = True

    def merge(self, base: Any, live: Any, staging: Any) -> Any:
        if not isinstance(live, list) or not isinstance(staging, list):
            return ABSENT
        return merge_sets(base if isinstance(base, list) else [], live, staging)


class Structure(Policy):
    """Maps inside structured values, merged key by key."""

    name = "structure"
    structured = keyed = True


class Text(Policy):
    """Long text, merged by paragraph or line."""

    name = "text"
    in_pieces = True

    def merge(self, base: Any, live: Any, staging: Any) -> Any:
        if not all(isinstance(v, str) for v in (base, live, staging)):
            return ABSENT
        merged = merge_text(base, live, staging)
        return ABSENT if merged is None else merged


class Derived(Policy):
    """Counters."""

    name = "derived"
    compared = travels = False
    recomputed = True


class Inherited(Policy):
    """Values that begin with those of the row above in a tree: what is above and what is the row's own are two things.
    """

    name = "inherited"
    placed = True

    def merge(self, base: Any, live: Any, staging: Any) -> Any:
        begun_values = [begun(v) for v in (base, live, staging)]
        if any(f is None for f in begun_values):
            return ABSENT
        was, mine, theirs = (f for f in begun_values if f is not None)
        up = _one(was.name, mine.name, theirs.name)
        rest = self._rest(was, mine, theirs)
        return ABSENT if up is ABSENT or rest is ABSENT else replace(mine, name=up, rest=rest).text()

    def _rest(self, was: Begun, mine: Begun, theirs: Begun) -> Any:
        return _one(was.rest, mine.rest, theirs.rest)


class PlaceInTree(Inherited):
    """A row's place in a tree, as a path: below which row, and where among its neighbours. Two sides that moved it
    below different rows are a clash; where it stands among its neighbours is worth none."""

    name = "place"

    def _rest(self, was: Begun, mine: Begun, theirs: Begun) -> Any:
        if mine.name != theirs.name:  # the side that moved it says where it stands there
            return theirs.rest if mine.name == was.name else mine.rest
        rest = _one(was.rest, mine.rest, theirs.rest)
        return mine.rest if rest is ABSENT else rest


def _one(base: Any, live: Any, staging: Any) -> Any:
    """What only one of two sides changed; ABSENT when both did, differently."""
    if live in (staging, base):
        return staging
    return live if staging == base else ABSENT


class Reckoned(Policy):
    """What follows from a row's place in a tree: its depth, how many are below it, its bounds."""

    name = "reckoned"
    compared = travels = False
    recomputed = True


class Counted(Policy):
    """What visitors count up and down, such as a stock: live's number stays live's, but a new row brings its own."""

    name = "counted"
    compared = False


class Local(Policy):
    """Base URLs, guards, credentials."""

    name = "local"
    compared = travels = False
    sides_own = True


class Volatile(Policy):
    """Caches, sessions, schedules."""

    name = "volatile"
    compared = travels = False


PLAIN, STRUCTURE, TEXT = (Policy.every[c.name] for c in (Plain, Structure, Text))
PLACE, INHERITED, RECKONED = (Policy.every[c.name] for c in (PlaceInTree, Inherited, Reckoned))
COUNTED, NEWEST = Policy.every[Counted.name], Policy.every[Newest.name]
DERIVED, LOCAL = Policy.every[Derived.name], Policy.every[Local.name]


def policy_named(name: str) -> Policy:
    """The policy that a profile names. Raises ValueError when there is none."""
    if name not in Policy.every:
        raise ValueError(f"there is no policy {name!r}; there are {', '.join(Policy.every)}")
    return Policy.every[name]
