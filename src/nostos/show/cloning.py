"""Showing what clone made."""

from __future__ import annotations

import json

from rich.console import Console

from nostos.core.clone import Cloned
from nostos.show.tables import clean, count, heading, size, table


def cloned(console: Console, result: Cloned) -> None:
    voyage = result.voyage
    heading(console, f"Voyage {voyage.name}: a staging copy of {voyage.live_name}.", f"{result.seconds:.2f} s",
            "bold green")
    table(console, ("", ""), [
        ("folder", voyage.into),
        ("database", f"{voyage.database}, {count(result.tables, 'table')}, {count(result.rows, 'row')}"),
        ("files", f"{count(result.files, 'file')}, {size(result.file_bytes)}"),
        ("URL", f"{voyage.url} in {count(result.rewritten, 'row')} where live's stood"),
        ("proof", f"{count(result.proved, 'row')} read back: equal to one moment of live"),
    ])
    if result.guards:
        heading(console, "Guards set in staging only; they never go home:")
        table(console, ("", ""), [(g.name, json.dumps(g.value, ensure_ascii=False)) for g in result.guards], indent=4)
    else:
        heading(console, "No guards: it is not known where this site keeps its settings.",
                "Switch off its mail and its jobs by hand.", "bold red")
    if result.unkeyed:
        console.print(f"Cloned but not compared, for want of a key: {', '.join(map(clean, result.unkeyed))}.")
    for passed in result.passed[:10]:
        console.print(f"Left out: {clean(passed.path)} {clean(passed.reason)}.")
    if len(result.passed) > 10:
        console.print(f"Left out for such reasons: {len(result.passed) - 10} more.")
    console.print(f"The anchor is dropped. Next: let {voyage.url} answer from {voyage.into}, and work there.")
