"""Showing voyages at a glance, and the history."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.text import Text

from nostos.core.patterns import clean
from nostos.show.tables import age, count, heading, size, table

if TYPE_CHECKING:
    from rich.console import Console

    from nostos.around.housekeeping import Space
    from nostos.around.status import VoyageStatus
    from nostos.core.voyages.history import HistoryEntry


def voyages(console: Console, statuses: list[VoyageStatus]) -> None:
    if not statuses:
        console.print("There is no voyage yet. `nostos clone SITE VOYAGE` makes one.")
    for n, status in enumerate(statuses):
        if n:
            console.print()
        voyage = status.voyage
        heading(console, voyage.name, f"of {voyage.live_name}, cloned {age(status.age)} ago")
        if status.trouble:
            console.print(Text(f"  {clean(status.trouble)}", style="bold red"))
        s = status.standings
        rows = [("live", f"{voyage.live_url}  {count(s.get('kept', 0) + s.get('blended', 0), 'item')} moved on"),
                ("staging", f"{voyage.url}  {count(s.get('homeward', 0) + s.get('blended', 0), 'item')} changed"),
                ("clashes", str(s.get("clash", 0)))]
        table(console, ("", ""), [*(rows if not status.trouble else ()), ("last", status.last),
                                  ("kept", f"{size(status.space)} of anchor and journals")])


def _way(entry: HistoryEntry) -> str:
    """From where to where; of files, the names."""
    ends = [end.rsplit("/", 1)[-1] if "://" not in end else end for end in (entry.origin, entry.target) if end]
    return "\n".join(ends) or entry.site


def house(console: Console, spaces: Sequence[Space], days: int) -> None:
    """What else is kept, and for how long."""
    rows = [(f"{s.what} of {s.of}" if s.of else "journals of restores", size(s.bytes)) for s in spaces
            if s.what == "backups" or not s.of]
    if rows:
        console.print()
        heading(console, "Kept beside them", f"for {days} days" if days else "for ever")
        table(console, ("", ""), rows)


def history(console: Console, entries: list[HistoryEntry]) -> None:
    if not entries:
        console.print("Nothing has been done yet.")
        return
    table(console, ("when (UTC)", "who", "what", "voyage", "from, to", "took", "between", "ended", ""), [
        (e.when[:19].replace("T", " "), e.who, e.verb, e.voyage, _way(e),
         f"{e.seconds:.2f} s", "" if e.between is None else f"{e.between * 1000:.1f} ms", e.result,
         ", ".join(count(v, k.removesuffix("s").removesuffix("e") if k == "clashes" else k.removesuffix("s"), k)
                   for k, v in e.counts.items())) for e in entries], indent=0, right=(5, 6))
    for entry in entries:
        if entry.chosen_by or entry.remarks:
            who = f"chosen by {entry.chosen_by}" if entry.chosen_by else "chosen on a page"
            remarks = "; ".join(f"{item}: {line}" for item, line in entry.remarks.items())
            console.print(clean(f"{entry.when[:19].replace('T', ' ')}  {who}{f'. {remarks}' if remarks else ''}"),
                          markup=False, highlight=False, soft_wrap=True)
        for ran in entry.commands:
            how = "done" if ran.status == 0 else ran.why or f"exit status {ran.status}"
            line = clean(f"{ran.when} the {entry.verb}: {shlex.join(ran.arguments)}: {how}, {ran.seconds:.2f} s")
            console.print(f"{entry.when[:19].replace('T', ' ')}  {line}", markup=False, highlight=False, soft_wrap=True)
    console.print("between: how long the site stood between two states.", style="dim")
