"""Showing a trial."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from nostos.core.inspect.trial.compare import Verdict, count
from nostos.core.inspect.trial.pictures import Pictured
from nostos.core.inspect.trial.run import Trial
from nostos.show.tables import clean, heading, table
from nostos.show.tables import count as number

STYLES = {Verdict.BROKE: "bold red", Verdict.CHANGED: "yellow", Verdict.SLOWER: "yellow", Verdict.NEW: "green",
          Verdict.EXPECTED: "green", Verdict.SAME: ""}
_REASONS = 4


def trial(console: Console, found: Trial, remembered: str | None) -> None:
    counts = count(found.pages)
    told = ", ".join(f"{n} {v}" for v, n in counts.items()) or "no page"
    then = f"staging at {found.against}" if found.against else "live"
    heading(console, f"{number(len(found.pages), 'page')} of staging against {then}: {told}.",
            style="bold red" if found.broke else "bold green")
    rows = []
    for page in found.pages:
        if page.verdict is Verdict.SAME:
            continue
        why = [*page.why[:_REASONS], *([f"and {len(page.why) - _REASONS} more"] if len(page.why) > _REASONS else [])]
        rows.append((Text(str(page.verdict), style=STYLES[page.verdict]), clean(page.path), clean(page.item),
                     clean("\n".join(why))))
    if rows:
        table(console, ("", "page", "item", "what a visitor would notice"), rows)
    if found.everywhere:
        heading(console, "Around the text of many pages:")
        table(console, ("",), [(clean(text),) for text in found.everywhere])
    same = counts.get(Verdict.SAME, 0)
    if same:
        console.print(f"As before, for a visitor: {number(same, 'page')}.")
    if found.left:
        console.print(f"Found and not visited: {number(found.left, 'address', 'addresses')}. --most visits more.")
    if remembered:
        console.print(f"Remembered as {remembered}. After an update: nostos trial --against {remembered}")


def pictures(console: Console, found: Sequence[Pictured]) -> None:
    if found:
        console.print()
        heading(console, "Pictures")
        table(console, ("page", "pixels that differ", "pictures"),
              [(clean(p.path), f"{p.share:.1%}", p.difference) for p in found], right=(1,))
