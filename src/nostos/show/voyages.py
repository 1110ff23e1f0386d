"""Showing voyages at a glance, and the history."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from nostos.core.history import Entry
from nostos.core.status import Status
from nostos.show.tables import age, clean, count, heading, table


def voyages(console: Console, found: list[Status]) -> None:
    if not found:
        console.print("There is no voyage yet. `nostos clone SITE VOYAGE` makes one.")
    for n, status in enumerate(found):
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
        table(console, ("", ""), [*(rows if not status.trouble else ()), ("last", status.last)])


def history(console: Console, entries: list[Entry]) -> None:
    if not entries:
        console.print("Nothing has been done yet.")
        return
    table(console, ("when (UTC)", "who", "what", "voyage", "site", "took", "ended", ""), [
        (e.when[:19].replace("T", " "), e.who, e.verb, e.voyage, e.site, f"{e.seconds:.2f} s", e.result,
         ", ".join(count(v, k.removesuffix("s").removesuffix("e") if k == "clashes" else k.removesuffix("s"), k)
                   for k, v in e.counts.items())) for e in entries], indent=0, right=(5,))
