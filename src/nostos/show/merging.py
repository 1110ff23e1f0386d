"""Showing a merge: what it will do, its operations, and the ledger."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Sequence
from typing import TYPE_CHECKING

from rich.text import Text

from nostos.core.anchor.names import Side
from nostos.core.compare.field_merge import Standing
from nostos.core.patterns import clean
from nostos.core.plan import conditions
from nostos.core.plan.operations import (
    InsertRow,
    PutFile,
    RemoveFile,
    RemoveRow,
    SchemaOperation,
    SwitchFolder,
    UpdateRow,
    as_data,
)
from nostos.core.plan.reading_order import in_reading_order
from nostos.show.comparing import SCREENFUL, grouped
from nostos.show.tables import count, heading, table

if TYPE_CHECKING:
    from rich.console import Console

    from nostos.core.apply.merge import MergeResult
    from nostos.core.compare.items import Item
    from nostos.core.plan.conditions import Condition
    from nostos.core.plan.prepared import PreparedMerge
    from nostos.core.takeback.undo import PastOperation
    from nostos.core.voyages.home import Voyage


def plan(console: Console, prepared: PreparedMerge, site: str) -> None:
    """What will go home, and why, before it does. site: where it goes."""
    selection = prepared.plan.selection
    home = prepared.toward is Side.LIVE
    for note in prepared.made.notes:
        console.print(f"Note: {clean(note)}.")
    whole = [c for c in selection.chosen if c.item.standing is not Standing.CLASH]  # the rest is told with the clashes
    heading(console, f"Will go {'home to' if home else 'into'} {site}: {len(whole)}", style="bold green")
    rows = []
    many = len(whole) > SCREENFUL
    if many:
        grouped(console, [c.item for c in whole], prepared.comparison, prepared.needs)
        console.print("Each by name: nostos compare --all.")
    pulled = any(c.because or c.item.visitors for c in whole)
    by_id = {c.item.id: c for c in whole}
    for over, item in () if many else in_reading_order(
            (c.item for c in whole), prepared.comparison, prepared.needs):
        chosen = by_id[item.id]
        because = f"{chosen.because.item} needs it: {chosen.because.reason}" if chosen.because else ""
        if chosen.item.visitors and not because:
            because = "made by visitors, and named"
        why = (because,) if pulled else ()
        rows.append(("  " * len(over) + item.id, item.change, *why, item.title))
    if rows:
        table(console, ("item", "what", *(("pulled in because",) if pulled else ()), "title"), rows, keep=(0, 1))
    stays = "live" if home else "staging"
    for text, items in (("Could go, and stays" if not home else "Could go home, and stays", selection.left),
                        ("Decided for live; staging's change counts as seen" if home else
                         "Decided for staging; live's change counts as seen", selection.kept),
                        ("Open; `nostos learn VOYAGE --interactive` asks what has to be known", selection.waiting),
                        (f"Clashes; {stays} stays as it is", selection.clashes)):
        if items:
            console.print()
            heading(console, f"{text}: {len(items)}")
            _short(console, items, {c.item.id for c in selection.chosen})
    for warning in selection.warnings:
        console.print(Text(f"Mind: {clean(warning)}.", style="yellow"))
    for name in selection.unmoved:
        console.print(f"Nothing to take: {clean(name)} is the same on both sides, or live's own.")
    works = prepared.plan
    if works.operations:
        files = len(works.of(PutFile, RemoveFile))
        console.print()
        console.print(f"On {stays}: " + ", ".join(filter(None, (
            count(len(works.of(SchemaOperation)), "schema step") if works.of(SchemaOperation) else "",
            f"{count(len(works.of(InsertRow)), 'row')} added", f"{len(works.of(UpdateRow))} changed",
            f"{len(works.of(RemoveRow))} removed",
            f"{count(files, 'file')} put or removed" if files else "",
            f"{count(len(works.of(SwitchFolder)), 'folder')} switched" if works.of(SwitchFolder) else ""))) + ".")


def staying(prepared: PreparedMerge) -> list[tuple[str, str]]:
    """What an undo cannot take back: items, or fields of them, and why."""
    stays = []
    chosen = {i.id for i in prepared.plan.selection.items}
    for item in prepared.comparison.items.values():
        if item.reason:
            stays.append((item.id, item.reason.replace("removed in staging, but live", "live").replace(
                "removed on live, but staging", "live")))
        elif item.standing is Standing.CLASH:
            names = ", ".join(f.name for f in item.fields if f.standing is Standing.CLASH)
            stays.append((item.id, f"live has changed it since: {names}" + (
                "; the rest is taken back" if item.id in chosen else "")))
    return stays


def undo_plan(console: Console, prepared: PreparedMerge, which: PastOperation, site: str) -> None:
    """What an undo will take back, and what stays."""
    heading(console, f"Will be taken back from {site}: {len(prepared.plan.selection.chosen)}",
            f"{which.verb} {which.id} of {which.when[:16].replace('T', ' ')} UTC", "bold green")
    words = {"new": "comes back", "edited": "as it was before", "removed": "goes"}
    rows = [(c.item.id, words[c.item.change], c.item.title) for c in prepared.plan.selection.chosen]
    if rows:
        table(console, ("item", "what", "title"), rows, keep=(0, 1))
    stays = staying(prepared)
    if stays:
        console.print()
        heading(console, f"Live has moved on there; it stays: {len(stays)}", style="bold red")
        table(console, ("", ""), stays, keep=(0,))
        console.print("  What stays is yours to decide: remove it on live by hand, or leave more with --leave.")


def undone(console: Console, result: MergeResult, which: PastOperation, voyage: Voyage) -> None:
    """What an undo did."""
    heading(console, f"{which.verb.capitalize()} {which.id} is taken back.",
            f"undo {result.id}, {result.seconds:.2f} s", "bold green")
    console.print("What live gained since is as it was. Tables and columns that came with it stay, unless --schema was "
                  "given and they are empty.", soft_wrap=True)
    console.print(f"The work is still in staging: it can be merged again. To have this back: "
                  f"nostos undo {voyage.name} {result.id}", soft_wrap=True)


def taken_back_list(console: Console, every: Sequence[PastOperation]) -> None:
    """The operations that can be taken back, the last one first."""
    rows = [(d.id, d.verb, d.when[:19].replace("T", " "), f"took back {d.undoes}" if d.undoes else "")
            for d in reversed(every)]
    if rows:
        table(console, ("id", "what", "when (UTC)", ""), rows)
    else:
        console.print("Nothing has been merged yet.")


def _short(console: Console, items: tuple[Item, ...], going: Collection[str] = ()) -> None:
    def text(item: Item) -> str:
        if item.id not in going or item.standing is not Standing.CLASH:
            return item.reason or item.title
        names = list(dict.fromkeys(f.name for f in item.going))
        return f"goes home all the same: {', '.join(names[:4])}{', ...' if len(names) > 4 else ''}"

    table(console, ("", "", ""), [(i.id, i.change, text(i)) for i in items[:12]], keep=(0, 1))
    if len(items) > 12:
        console.print(f"  and {len(items) - 12} more")


def operations(console: Console, prepared: PreparedMerge) -> None:
    """The operations themselves, in order; of more than anybody reads, how many of each kind."""
    if len(prepared.plan.operations) > SCREENFUL:
        alike: dict[tuple[str, str], list[str]] = {}
        for operation in prepared.plan.operations:
            where = getattr(operation, "table", "") or getattr(operation, "path", "").rpartition("/")[0]
            alike.setdefault((_WORDS[type(operation).__name__], where), []).append(operation.item)
        table(console, ("", "operation", "where", "for"), [
            (f"{len(some):,}", what, where, ", ".join(dict.fromkeys(some[:3])) + (", ..." if len(some) > 3 else ""))
            for (what, where), some in alike.items()], right=(0,), keep=(0, 1, 2))
        console.print("Each by itself: --json.")
        _resting(console, prepared, ())
        return
    rows = []
    for number, operation in enumerate(prepared.plan.operations, start=1):
        data = as_data(operation)
        what = data["operation"]
        where = data.get("path") or data.get("table") or f"{data['step']['what']} {data['step']['name']}"
        if isinstance(operation, InsertRow):
            detail = ", ".join(operation.values)
        elif isinstance(operation, UpdateRow):
            where, detail = f"{where} {','.join(map(str, operation.key))}", ", ".join(operation.values)
        elif isinstance(operation, RemoveRow):
            where, detail = f"{where} {','.join(map(str, operation.key))}", ""
        elif isinstance(operation, SwitchFolder):
            detail = f"{len(operation.puts)} put, {len(operation.removals)} removed"
        else:
            detail = ""
        rows.append((str(number), _WORDS[what], where, operation.item, detail))
    table(console, ("", "operation", "where", "for", "columns"), rows, right=(0,), keep=(1, 2))
    _resting(console, prepared, prepared.plan.conditions)


def _resting(console: Console, prepared: PreparedMerge, each: Sequence[Condition]) -> None:
    """What must be true when the operations are carried out. each: those that are shown one by one."""
    counted = conditions.counted(prepared.plan.conditions)
    if not counted:
        return
    console.print()
    heading(console, "As long as this holds", "asked again under the lock; where it does not, nothing is done")
    if 0 < len(each) <= SCREENFUL:
        table(console, ("condition", "where", "for"), [(*_condition(c), c.item) for c in each], keep=(0, 1))
    else:
        table(console, ("", "condition"), [(f"{n:,}", what) for what, n in counted], right=(0,), keep=(0, 1))


def _condition(condition: Condition) -> tuple[str, str]:
    data = conditions.as_data(condition)
    where = data.get("path") or " ".join(filter(None, (
        data["table"], data.get("column", ""), ",".join(map(str, data.get("key", ()))), str(data.get("value", "")))))
    return conditions.in_words(condition), where


_WORDS = {"SchemaOperation": "add schema", "InsertRow": "insert row", "UpdateRow": "update row",
          "RemoveRow": "remove row", "PutFile": "put file", "RemoveFile": "remove file",
          "SwitchFolder": "switch folder"}


def merged(console: Console, result: MergeResult, site: str, since: str) -> None:
    """What a merge did, with its ledger."""
    heading(console, f"Merged into {site}.", f"merge {result.id}, {result.seconds:.2f} s", "bold green")
    if result.renumbered:
        by_table = Counter(t for t, _, _ in result.renumbered)
        shown = [f"{t} {old} is {new} on live" for t, old, new in result.renumbered[:3]]
        console.print(f"New ids on live: {', '.join(f'{n} in {t}' for t, n in by_table.items())} "
                      f"({'; '.join(shown)}{'; ...' if len(result.renumbered) > 3 else ''}).")
    console.print(f"Live spent {result.between * 1000:.1f} ms between two states.")
    _meanwhile(console, result)
    console.print()
    ledger(console, result, since)
    if result.clashes:
        console.print()
        heading(console, f"Clashes left, live as it was: {len(result.clashes)}", style="bold red")
        _short(console, result.clashes)
        console.print("  Look at one with `nostos compare VOYAGE ITEM`.")


def refreshed(console: Console, result: MergeResult, voyage: str, since: str) -> None:
    """What a refresh did, with the ledger of staging's own work."""
    heading(console, f"Staging of voyage {voyage} is refreshed.", f"{result.id}, {result.seconds:.2f} s", "bold green")
    ledger(console, result, since, "staging")
    if result.clashes:
        console.print()
        heading(console, f"Clashes left, staging as it was: {len(result.clashes)}", style="bold red")
        _short(console, result.clashes)


def _meanwhile(console: Console, result: MergeResult) -> None:
    """What the site itself did in the very moment, which stays as it has it."""
    if result.carried:
        console.print("What the site itself wrote meanwhile into folders that were switched came along: "
                      f"{', '.join(result.carried[:5])}{' and more' if len(result.carried) > 5 else ''}.",
                      soft_wrap=True)
    if result.dangling:
        console.print(Text("In the very moment something came to refer to what was removed: "
                           f"{', '.join(result.dangling[:5])}. Look at it, or take the merge back with `nostos undo`.",
                           style="bold red"), soft_wrap=True)


def ledger(console: Console, result: MergeResult, since: str, side: str = "live") -> None:
    """The ledger. side: whose own work it proves."""
    heading(console, f"Ledger: what {side} gained since the clone of {since[:16].replace('T', ' ')} UTC")
    if not result.ledger:
        console.print(f"  {side.capitalize()} had gained nothing.")
        return
    rows = [(line.kind, str(line.gained), str(line.edited), str(line.removed), line.before, line.after,
             Text("equal", style="green") if line.holds else Text("DIFFERENT", style="bold red"))
            for line in result.ledger if line.gained or line.edited or line.removed]
    if rows:
        table(console, ("kind", "gained", "edited", "removed", "digest before", "digest after", ""), rows,
              right=(1, 2, 3))
    gained, edited, blended = (sum(getattr(line, what) for line in result.ledger)
                               for what in ("gained", "edited", "blended"))
    if gained or edited:
        console.print(f"  Present and equal: {count(gained, 'thing')} that {side} gained, {count(edited, 'edit')}.")
    if result.late:
        console.print(f"  Changed by {side} itself while the merge ran, and left so: {count(result.late, 'thing')}.")
    if blended:
        console.print(f"  Merged with staging's into one: {count(blended, 'edit')} of {side}'s.")
