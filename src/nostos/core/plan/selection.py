"""Choosing what goes home: patterns, the rule when none is given, and closing a choice over its needs."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator
from fnmatch import fnmatchcase

from nostos.core.anchor.names import Side
from nostos.core.compare.field_merge import Role, Standing
from nostos.core.compare.items import Comparison, Item
from nostos.core.compare.portable import plain
from nostos.core.errors import SelectionError
from nostos.core.files.words import RULES, ending
from nostos.core.patterns import matching, nearest
from nostos.core.plan.decisions import Decision, is_decided
from nostos.core.plan.needs import Needs
from nostos.core.plan.obstacles import Need
from nostos.core.plan.removed_together import removed_with
from nostos.core.profiles.conditions import holds
from nostos.core.records import dataclass
from nostos.core.values.names import both

_OPENS = "would be open to those who are kept from it now"
Exists = Callable[[str], bool]  # whether an item of this name is on live at all


@dataclass(frozen=True)
class Choice:
    """What someone asked for: patterns to take and to leave, and how clashes are decided.

    everyone: with no `take`, what visitors make counts too. nothing: with no `take`, nothing is taken. sure: names
    that must be able to go. there: names of what must be on live, for it does not differ. notes: what there is to say
    about how the choice was made. as_written: texts that still speak of staging go home as they are.
    """

    take: tuple[str, ...] = ()
    leave: tuple[str, ...] = ()
    prefer: tuple[Decision, ...] = ()
    everyone: bool = False
    nothing: bool = False
    sure: tuple[str, ...] = ()
    there: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    as_written: bool = False


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
    warnings: tuple[str, ...] = ()  # what seems to belong together and is parted
    kept: tuple[Item, ...] = ()  # clashes that were decided for live
    waiting: tuple[Item, ...] = ()  # what stands open, for a question has to be answered first

    @property
    def items(self) -> list[Item]:
        """The items that go home, in the order in which they were chosen."""
        return [c.item for c in self.chosen]


def _runs(item: Item) -> str:
    """What there is to say of a change of the schema that runs code; empty where it runs none."""
    called = ", ".join(dict.fromkeys(name for step in item.schema for name in step.calls))
    return f"runs code on {item.schema[0].side.other}, for it calls {called}" if called else ""


def choose(comparison: Comparison, needs: Needs, choice: Choice, exists: Exists = lambda _: False) -> Selection:
    """The items to take home.

    With nothing to `take`, that is everything that can go home and is not made by visitors. What would drop something
    of live's schema goes only when it is named. Raises SelectionError when a pattern matches nothing, or when a chosen
    item needs one that is to be left.
    """
    take, leave = choice.take, choice.leave
    unmoved = _unmoved(comparison, (*take, *leave), exists)
    for name in choice.there:
        if not exists(name):
            raise SelectionError(f"There is no {name}, on neither side.",
                                 next_step="Take it out of the selection, or write one anew with `nostos select`.")
    movable = [i for i in comparison.items.values() if i.id in needs]
    for name in choice.sure:
        if name not in needs:
            item = comparison.items[name]
            raise SelectionError(f"{name} cannot go home any more: {item.reason or f'it stands {item.standing} now'}.",
                                 next_step=f"Look with `nostos compare {name}`, then leave it out of the selection.")
    for item in comparison.items.values():
        if is_decided(item, Role.SOURCE) and item.id not in needs:
            raise SelectionError(f"{item.id} cannot go where it was decided to: {item.reason or item.standing}.",
                                 next_step="Mend that on one side, or do not decide it.")
    wanted = matching((i.id for i in movable), take) if take else {
        i.id for i in movable if (choice.everyone or not i.visitors) and not choice.nothing}
    wanted |= {i.id for i in movable if is_decided(i, Role.SOURCE)}
    # Where everyone's work goes along, as into staging or in taking a merge back, accounts do, too.
    careful = {i.id for i in movable if i.careful and i.id not in take and (i.schema or not choice.everyone)}
    wanted -= careful
    forbidden = matching(comparison.items, leave)
    forbidden |= _with_parts(comparison, forbidden) - {*take, *choice.sure}
    wanted -= forbidden
    # Nobody's account and no visitor's test row comes along with what was not asked for by its name.
    unasked = {n for n in careful if not comparison.items[n].schema or _runs(comparison.items[n])} | {
        i.id for i in movable if stays(i) and i.id not in wanted and not choice.everyone
        and comparison.rows.profile.is_surely_visitors(i.kind)}
    hung = {} if take else _with_what_stays(comparison, needs, wanted, choice.sure)
    wanted -= hung.keys()
    waits = dict(_waiting(needs, sorted(wanted - {*take, *choice.sure}), unasked))
    wanted -= waits.keys()
    chosen: dict[str, Need | None] = dict.fromkeys(sorted(wanted))
    queue = list(chosen)
    while queue:
        name = queue.pop(0)
        for need in needs[name]:
            if need.part and (need.on in forbidden or need.on in careful):
                continue
            if need.on in forbidden:
                raise SelectionError(f"{_chain(chosen, need)}, and {need.on} is to be left.",
                                     next_step=f"Leave {need.item} out as well, or let {need.on} go home.")
            if need.on not in chosen:
                if need.on in careful:
                    item = comparison.items[need.on]
                    why = _runs(item) or (f"drops something of {comparison.rows.target}'s" if item.schema else (
                        f"{_OPENS if item.opens else 'is an account'}, and goes only when it is named"))
                    raise SelectionError(f"{_chain(chosen, need)}, which {why}.",
                                         next_step=f"Name it with --take {need.on}, or leave {need.item} out.")
                chosen[need.on] = need
                queue.append(need.on)
    return Selection(
        tuple(Chosen(comparison.items[n], because) for n, because in sorted(chosen.items())),
        tuple(i for i in movable if i.id not in chosen),
        tuple(i for i in comparison.items.values() if i.standing is Standing.CLASH and not stays(i)),
        tuple(unmoved), (*(f"{name} {_OPENS}: it goes only when it is named, --take {name}" for name in sorted(careful)
                           if comparison.items[name].opens),
                         *(f"{name} {_OPENS}" for name in sorted(chosen) if comparison.items[name].opens),
                         *(f"{name} {why}: it goes only when it is named, --take {name}" for name in sorted(careful)
                           if (why := _runs(comparison.items[name]))),
                         *(f"{name} {why}" for name in sorted(chosen) if (why := _runs(comparison.items[name]))),
                         *(f"{item} stays, for {on}, with which it was removed, does" for item, on in hung.items()),
                         *(f"{item} stays, for it needs {on}, which goes only when it is named: --take {on}"
                           for item, on in waits.items()),
                         *_rights(comparison, chosen), *_minds(comparison, chosen),
                         *_renamed(comparison, chosen),
                         *_parted(comparison, needs, chosen),
                         *(f"{i.id} seems to belong to {i.part_of}, and stays: take it too with --take {i.id}"
                           for i in movable if i.part_of in chosen and i.id not in chosen and i.change == "new"
                           and i.id not in forbidden and not i.visitors)),
        tuple(i for i in comparison.items.values() if is_decided(i, Role.TARGET)),
        tuple(i for i in comparison.items.values() if i.standing is Standing.OPEN and not i.visitors))


def _unmoved(comparison: Comparison, patterns: Collection[str], exists: Exists) -> list[str]:
    """The patterns that name things which did not change. Raises SelectionError for one that names nothing."""
    unmoved = [p for p in patterns if not matching(comparison.items, [p]) and exists(p)]
    for pattern in patterns:
        if not matching(comparison.items, [pattern]) and pattern not in unmoved:
            table = pattern.partition("/")[0]
            if table in comparison.rows.skipped:
                raise SelectionError(f"The table {table} has no key, so nothing in it can be taken home.",
                                     next_step=f"Give {table} a primary key on both sides, then clone again.")
            raise SelectionError(f"Nothing that changed is called {pattern}.",
                                 next_step=nearest(comparison.items, pattern))
    return unmoved


def _with_what_stays(comparison: Comparison, movable: Iterable[str], wanted: Collection[str], named: Collection[str]
                     ) -> dict[str, str]:
    """What would be removed, was removed only with something else, and was not named; where that is not wanted."""
    together = removed_with(comparison, movable)
    names: dict[str, str] = {}
    while more := {name: on for name in wanted if name not in names and name not in named
                   for on in sorted(together.get(name, ())) if on not in wanted or on in names}:
        names |= more
    return names


def _with_parts(comparison: Comparison, names: Collection[str]) -> set[str]:
    """What is nothing without these, and so stays with them."""
    taken = {*names}
    while more := {i.id for i in comparison.items.values() if i.goes_with in taken and i.id not in taken}:
        taken |= more
    return taken


def _waiting(needs: Needs, wanted: Iterable[str], unasked: Collection[str]) -> Iterator[tuple[str, str]]:
    """What was not asked for by its name and needs something of staging's that was not either; and that. unasked: what
    goes home only when it is named."""
    for start in wanted if unasked else ():
        seen, queue = {start}, [start]
        while queue:
            for need in needs[queue.pop()]:
                if need.part:
                    continue
                if need.on in unasked:
                    yield start, need.on
                    queue = []
                    break
                if need.on not in seen:
                    seen.add(need.on)
                    queue.append(need.on)


def _minds(comparison: Comparison, chosen: Collection[str]) -> Iterator[str]:
    """What the profile says of rows that come home as they were not on live; and what a web server obeys at once."""
    for name in chosen:
        for file in comparison.items[name].files:
            if ending(file.path) in RULES and file.source is not None:
                yield f"{name}: the web server obeys {file.path} from the moment that it is there"
        for table, where, says in comparison.rows.profile.minds:
            for state in comparison.items[name].rows:
                if state.table == table and state.source is not None and holds(where, plain(state.source)) and not (
                        state.target is not None and holds(where, plain(state.target))):
                    yield f"{name} {says}"


def _renamed(comparison: Comparison, chosen: Collection[str]) -> Iterator[str]:
    """What gets another name where it comes, for there it is another thing's."""
    rows = comparison.rows
    for name in chosen if rows.names else ():
        item = comparison.items[name]
        new = [(rows.names.files[f.path], f.path) for f in item.files
               if f.target is None and f.path in rows.names.files]
        slugs = [names for s in item.rows if s.target is None and s.source is not None
                 for v in s.source.values() if (names := both(v)) is not None]
        for live, staging in [*((b, a) for a, b in sorted(new, key=lambda n: len(n[1]))[:1]), *slugs]:
            old, comes = ((live, staging) if rows.target is Side.STAGING else (staging, live))
            yield (f"{name} comes as {comes.rpartition('/')[2]}, for {rows.target} has another "
                   f"{old.rpartition('/')[2]}")


def _rights(comparison: Comparison, chosen: Collection[str]) -> Iterator[str]:
    """Whom a merge makes an administrator."""
    who = comparison.rows.profile.administrators
    for name in chosen if who is not None else ():
        for state in comparison.items[name].rows:
            if who is not None and state.table == who.table and state.source is not None and holds(
                    who.where, plain(state.source)) and not (
                    state.target is not None and holds(who.where, plain(state.target))):
                yield f"{name} gets administrator rights"


def stays(item: Item) -> bool:
    """Whether it is test data of staging's, which stays there whatever is in its way: visitors' own, born there."""
    root = next((r for r in item.rows if r.id == item.root), None)
    return item.visitors and root is not None and root.base is None and root.target is None


def _parted(comparison: Comparison, needs: Needs, chosen: dict[str, Need | None]) -> Iterator[str]:
    """What seems to come with an extension or a theme, where one goes home and the other stays."""
    for item in comparison.items.values():
        if not item.folder or item.id not in needs:
            continue
        folder = next(f for f in comparison.rows.profile.folders if f.kind == item.kind)
        name = item.id.partition("/")[2]
        patterns = [p.replace("{name}", n) for p in folder.offers for n in {name, name.replace("-", "_")}]
        for other in comparison.items.values():
            if other.id not in needs or other.change != "new" or (other.id in chosen) == (item.id in chosen):
                continue
            named = any(fnmatchcase(other.id, p) for p in patterns)
            owned = other.schema and any(n.on == other.id for n in needs[item.id])
            if item.id in chosen and named:
                yield f"{other.id} seems to belong to {item.id}, and stays: take it too with --take {other.id}"
            elif other.id in chosen and (named or owned):
                yield f"{other.id} seems to belong to {item.id}, which stays: take it too with --take {item.id}"


def _chain(chosen: dict[str, Need | None], need: Need) -> str:
    """Why something is needed, back to what was chosen."""
    steps = [need]
    while (before := chosen.get(steps[0].item)) is not None:
        steps.insert(0, before)
    return ", which ".join([f"{steps[0].item} needs {steps[0].on} ({steps[0].reason})",
                            *(f"needs {s.on} ({s.reason})" for s in steps[1:])])
