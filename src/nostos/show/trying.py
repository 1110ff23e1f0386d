"""Showing a trial."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.text import Text

from nostos.around.trial.compare import Verdict, count
from nostos.core.patterns import clean
from nostos.show.tables import count as number
from nostos.show.tables import heading, table

if TYPE_CHECKING:
    from rich.console import Console

    from nostos.around.trial.pictures import Pictured
    from nostos.around.trial.run import Trial
    from nostos.around.trial.watch import Watched
    from nostos.core.apply.merge import MergeResult

STYLES = {Verdict.BROKE: "bold red", Verdict.OPENED: "bold red",
          Verdict.CHANGED: "yellow", Verdict.SLOWER: "yellow",
          Verdict.NEW: "green", Verdict.EXPECTED: "green", Verdict.SAME: ""}
_REASONS = 4


def trial(console: Console, trial: Trial, remembered: str | None) -> None:
    counts = count(trial.pages)
    totals = ", ".join(f"{n} {v}" for v, n in counts.items()) or "no page"
    then = f"staging at {trial.against}" if trial.against else "live"
    heading(console, f"{number(len(trial.pages), 'page')} of staging against {then}: {totals}.",
            style="bold red" if trial.broke else "bold green")
    rows = []
    for page in trial.pages:
        if page.verdict is Verdict.SAME:
            continue
        why = [*page.why[:_REASONS], *([f"and {len(page.why) - _REASONS} more"] if len(page.why) > _REASONS else [])]
        rows.append((Text(str(page.verdict), style=STYLES[page.verdict]), clean(page.path), clean(page.item),
                     clean("\n".join(why))))
    if rows:
        table(console, ("", "page", "item", "what a visitor would notice"), rows)
    if trial.everywhere:
        heading(console, "Around the text of many pages:")
        table(console, ("",), [(clean(text),) for text in trial.everywhere])
    same = counts.get(Verdict.SAME, 0)
    if same:
        console.print(f"As before, for a visitor: {number(same, 'page')}.")
    if trial.left:
        console.print(f"Found and not visited: {number(trial.left, 'address', 'addresses')}. --most and --minutes "
                      "visit more.")
    if remembered:
        console.print(f"Remembered as {remembered}. After an update: nostos trial --against {remembered}")


def failing(console: Console, watched: Watched, voyage: str) -> None:
    """Pages of live that answered before a merge, and fail now."""
    console.print()
    heading(console,
            f"{number(len(watched.failing), 'page')} of live {'fails' if len(watched.failing) == 1 else 'fail'} "
                     "that answered before the merge.",
            f"`nostos undo {voyage}` takes it back, and keeps what live gained since.", "bold red")
    table(console, ("page", "item", "what a visitor notices"), [
        (clean(p.path), clean(p.item), clean("\n".join(p.why[:_REASONS]))) for p in watched.failing])


def unbroken(console: Console, watched: Watched) -> None:
    console.print()
    console.print(f"Watched: {number(watched.visited, 'page')} of live before and after the merge. None of them fails.")


def taken_back(console: Console, undone: MergeResult, again: Watched | None, live: str) -> None:
    """A merge that was taken back because pages failed."""
    console.print()
    heading(console, f"The merge into {live} was taken back.", f"undo {undone.id}, {undone.seconds:.2f} s",
            "bold yellow")
    console.print(f"Live spent {undone.between * 1000:.1f} ms between two states. What it gained since is there.")
    if again is not None and not again.failing:
        console.print(f"Visited again: {number(again.visited, 'page')}. All of them answer as before the merge.")
    elif again is not None:
        console.print(Text(f"Visited again: {number(len(again.failing), 'page')} still fail, such as "
                           f"{again.failing[0].path}. The cause is not in the merge, or a cache holds it.",
                           style="bold red"), soft_wrap=True)
    console.print("Nothing of staging is lost. Mend it there, try it with `nostos rehearse`, and merge again.")


def pictures(console: Console, pictures: Sequence[Pictured]) -> None:
    if pictures:
        console.print()
        heading(console, "Pictures")
        table(console, ("page", "pixels that differ", "pictures"),
              [(clean(p.path), f"{p.share:.1%}", p.difference) for p in pictures], right=(1,))
