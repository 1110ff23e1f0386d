"""Showing what clone made."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING

from rich.text import Text

from nostos.core.patterns import clean
from nostos.show.tables import count, heading, size, table
from nostos.show.webserver import left_to_do

if TYPE_CHECKING:
    from rich.console import Console

    from nostos.core.clone.options import CloneResult
    from nostos.core.voyages.home import Voyage


def cloned(console: Console, result: CloneResult) -> None:
    voyage = result.voyage
    heading(console, f"Voyage {voyage.name}: a staging copy of {voyage.live_name}.", f"{result.seconds:.2f} s",
            "bold green")
    table(console, ("", ""), [
        ("folder", voyage.into),
        ("database", f"{voyage.database}, {count(result.tables, 'table')}, {count(result.rows, 'row')}"),
        *([] if voyage.made == "file" else [("user", _user(voyage))]),
        ("files", f"{count(result.files, 'file')}, {size(result.file_bytes)}"),
        ("URL", f"{voyage.url} in {count(result.rewritten, 'row')} where live's stood"),
        *(("", f"{here} where {live_address} stood") for live_address, here in result.addresses),
        ("proof", f"{count(result.proved, 'row')} read back: equal to one moment of live"),
    ])
    if result.masked is not None:
        values = sum(result.masked.values())
        if values:
            heading(console, f"Masked: {count(values, 'value')} of personal data are made up, and never go home.",
                    "Look whether a column is missing here.")
        else:
            heading(console, "Masked: nothing. No column looks like personal data.",
                    "Name columns in a profile (docs/masking.md).", "bold red")
        table(console, ("", ""), [(clean(name), f"{n:,}") for name, n in sorted(result.masked.items())], indent=4,
              right=(1,))
    if result.guards:
        heading(console, "Guards set in staging only; they never go home:")
        table(console, ("", ""), [(g.name, json.dumps(g.value, ensure_ascii=False)) for g in result.guards], indent=4)
    else:
        heading(console, "No guards: it is not known where this site keeps its settings.",
                "Switch off its mail and its jobs by hand.", "bold red")
    if result.unasked == "":
        console.print("The copy was asked: its guards are awake; its database, folders and addresses are its own.")
    elif result.unasked is not None:
        heading(console, f"The copy could not be asked about itself: {result.unasked}.",
                "Look at its first page, and send no mail from it, before anyone works there.", "bold yellow")
    if result.elsewhere:
        heading(console, f"{count(len(result.elsewhere), 'site')} of this installation answer on live only: "
                         f"{', '.join(map(clean, result.elsewhere))}.",
                "Links to them in the copy lead to live. `clone --address LIVE=STAGING` gives each one there.",
                "bold yellow")
    acts = [left for left in result.left if left.acts]
    if acts:
        heading(console, f"Not finished: {count(len(acts), 'file')} of the copy lead to live's database.",
                "Whoever works in the copy would change live. Mend them before it answers to anybody:", "bold red")
        table(console, ("", ""), [(clean(left.place), clean(left.said)) for left in acts], indent=4)
    speaking = [left for left in result.left if not left.acts]
    if speaking:
        heading(console, f"{count(len(speaking), 'place')} of the copy still speak of live:",
                "Written in a way that is not known. Mend them there if they matter.", "bold yellow")
        table(console, ("", "", ""), [(clean(left.place), f"{left.count:,}" if left.count > 1 else "", clean(left.said))
                                      for left in speaking[:10]], indent=4, right=(1,))
        if len(speaking) > 10:
            console.print(f"    and {len(speaking) - 10} more; --json lists all.")
    if result.machines:
        covered = any("mail" in f"{g.name} {g.value}" for g in result.guards)
        heading(console, f"Its settings name {count(len(result.machines), 'other machine')}, as live's do:",
                "What the copy sends there, live's own get. Change them where that matters.", "bold yellow")
        table(console, ("", "", "", ""), [
            (clean(m.host), clean(m.key), clean(m.place),
             "mail is off in the copy" if m.is_mail and covered else "no guard covers it")
            for m in result.machines[:12]], indent=4)
    if result.unkeyed:
        console.print(f"Cloned but not compared, for want of a key: {', '.join(map(clean, result.unkeyed))}.")
    for passed in result.passed[:10]:
        console.print(f"Left out: {clean(passed.path)} {clean(passed.reason)}.")
    if len(result.passed) > 10:
        console.print(f"Left out for such reasons: {len(result.passed) - 10} more.")
    console.print(f"The anchor is dropped. Next: let {voyage.url} answer from {voyage.into}, and work there.")
    for paragraph in left_to_do(voyage, result.program, result.inside, result.private,
                                [here for _, here in result.addresses]):
        console.print(Text(paragraph, style="dim" if paragraph.startswith(" ") else ""))


def _user(voyage: Voyage) -> str:
    if voyage.user:
        return f"{voyage.user}, made for this copy: it may use nothing else"
    return "as --database names it" if voyage.elsewhere else (
        "live's own. To keep the copy's code off live's tables, give it another with --database")
