"""Showing what a rehearsal found."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.text import Text

from nostos.around.trial.compare import Verdict
from nostos.core.patterns import clean
from nostos.show.tables import count, heading, size, table

if TYPE_CHECKING:
    from rich.console import Console

    from nostos.around.rehearsal.rehearse import Rehearsal

_REASONS = 4
_GROUPS = (
    ((Verdict.BROKE,), "Broke", "would fail for visitors", "bold red"),
    ((Verdict.OPENED,), "Opened", "everybody could see it, and nobody could before", "bold red"),
    ((Verdict.CHANGED, Verdict.SLOWER), "Not meant", "changed or slower, though nothing that goes home is behind them",
     "bold yellow"),
    ((Verdict.EXPECTED, Verdict.NEW), "Meant", "what goes home", "bold green"))


def rehearsal(console: Console, rehearsal: Rehearsal, live: str, by_file: bool) -> None:
    """What visitors would notice; by_file: what was chosen stands in a file."""
    broke = sum(p.verdict is Verdict.BROKE for p in rehearsal.pages)
    outcome = ("the ledger does not hold" if not rehearsal.holds else "not visited" if not rehearsal.visited
            else f"{count(broke, 'page')} broke" if broke else "no page broke")
    heading(console, f"Rehearsed on a copy of {live}: {count(rehearsal.items, 'item')}, {outcome}.",
            f"rehearsal {rehearsal.id}",
            "bold red" if rehearsal.broke else "bold green")
    table(console, ("", ""), [
        ("the merge", f"{rehearsal.seconds:.2f} s; rows held for {rehearsal.locked * 1000:.0f} ms; "
                      f"{size(rehearsal.space)} laid down beside what is there"),
        ("what live gained", "there afterwards, and equal" if rehearsal.holds else Text("NOT EQUAL", style="bold red")),
        ("the copy", f"made in {rehearsal.copying:.2f} s, removed; live was only read"),
    ])
    for verdicts, name, what, style in _GROUPS:
        pages = [p for p in rehearsal.pages if p.verdict in verdicts]
        if not pages:
            continue
        console.print()
        heading(console, f"{name}: {count(len(pages), 'page')}", what, style)
        table(console, ("page", "item", "what a visitor would notice"), [
            (clean(p.path), clean(p.item), clean("\n".join([
                *p.why[:_REASONS], *([f"and {len(p.why) - _REASONS} more"] if len(p.why) > _REASONS else [])])))
            for p in pages])
    if rehearsal.everywhere:
        heading(console, "Around the text of many pages:")
        table(console, ("",), [(clean(text),) for text in rehearsal.everywhere])
    same = sum(p.verdict is Verdict.SAME for p in rehearsal.pages)
    if same:
        console.print(f"As before, for a visitor: {count(same, 'page')}.")
    if rehearsal.left:
        console.print(f"Found and not visited: {count(rehearsal.left, 'address', 'addresses')}. --most and "
                      "--minutes visit "
                      "more.")
    if not rehearsal.visited:
        console.print("Nothing was visited: it is not known how a copy of this site is served. Name a command in a "
                      "site file, under [serve].", soft_wrap=True)
    if rehearsal.clashes:
        console.print(f"Clashes left, live as it is: {rehearsal.clashes}.")
    file = " --selection FILE" if by_file else ""
    console.print(f"To do this on live, and nothing else: "
                      f"nostos merge {rehearsal.voyage}{file} --as-rehearsed {rehearsal.id}",
                  soft_wrap=True)
