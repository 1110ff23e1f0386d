"""Showing backups, and what restoring one does."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from rich.text import Text

from nostos.core.patterns import clean
from nostos.core.plan.operations import PutFile
from nostos.show.tables import count, heading, size, table

if TYPE_CHECKING:
    from rich.console import Console

    from nostos.core.apply.merge import MergeResult
    from nostos.core.backup.outlook import Outlook
    from nostos.core.backup.restore import RestoreResult
    from nostos.core.backup.write import BackupResult
    from nostos.core.plan.prepared import PreparedMerge
    from nostos.core.sites.recognise import Site


def listed(counts: Mapping[str, int]) -> str:
    """`14 orders, 3 comments and 1 member`."""
    # A kind that is called as its table is: `2 of books`.
    kinds = [f"{n:,} of {clean(kind)}" if kind.endswith("s") else count(n, clean(kind), _many(clean(kind)))
            for kind, n in sorted(counts.items(), key=lambda c: -c[1])]
    return " and ".join(filter(None, [", ".join(kinds[:-1]), *kinds[-1:]]))


def _many(kind: str) -> str:
    if kind.endswith("y") and kind[-2:-1] not in "aeiou":
        return kind[:-1] + "ies"
    return kind + "s"


def backed_up(console: Console, result: BackupResult) -> None:
    heading(console, f"{result.site} is backed up.", f"{result.seconds:.2f} s", "bold green")
    table(console, ("", ""), [
        ("file", str(result.path)),
        ("size", f"{size(result.size)} ({size(result.content)} before compression)"),
        ("database", f"{count(result.tables, 'table')}, {count(result.rows, 'row')}, all of one moment"),
        ("files", count(result.files, "file")),
        ("proof", "read back: every digest is right"),
    ])
    for passed in result.passed[:10]:
        console.print(f"Left out: {clean(passed.path)} {clean(passed.reason)}.")
    if len(result.passed) > 10:
        console.print(f"Left out for such reasons: {len(result.passed) - 10} more.")
    console.print(f"It holds everything, passwords too, and only you may read it. To have it back: "
                  f"nostos restore {result.path.name} SITE", soft_wrap=True)


def aged_out(console: Console, gone: Sequence[Path]) -> None:
    if gone:
        console.print(f"Aged out and removed: {', '.join(p.name for p in gone)}.")


def outlook(console: Console, outlook: Outlook) -> None:
    """What restoring would do."""
    manifest = outlook.contents.manifest
    heading(console, f"A backup of {clean(manifest.site)}, made {manifest.made[:16].replace('T', ' ')} UTC.",
            "verified: every digest is right")
    rows: list[tuple[str | Text, str]] = []
    if outlook.lost:
        rows.append((Text("will be LOST", style="bold red"),
                     f"{listed(outlook.lost)} that {outlook.site.name} gained since"))
    if outlook.changed:
        rows.append(("as they were", listed(outlook.changed)))
    if outlook.back or outlook.tables_back:
        back = [listed(outlook.back)] if outlook.back else []
        back += [f"in the schema {', '.join(map(clean, outlook.tables_back))}"] if outlook.tables_back else []
        rows.append(("come back", " and ".join(back)))
    puts = sum(isinstance(o, PutFile) for o in outlook.files)
    if outlook.files:
        rows.append(("files", f"{puts} put, {len(outlook.files) - puts} removed"))
    if outlook.stay:
        rows.append(("tables that stay", f"{', '.join(outlook.stay)}: the backup does not know them"))
    if manifest.url != outlook.site.url:
        rows.append(("URL", f"{outlook.site.url} where {clean(manifest.url)} stood"))
    if outlook.left_out:
        rows.append(("left out", f"{', '.join(map(clean, outlook.left_out[:5]))}: not part of this site's tree"))
    if rows:
        table(console, ("", ""), rows)


def restored(console: Console, result: RestoreResult, outlook: Outlook, anew: bool) -> None:
    """What a restore did."""
    heading(console, f"{outlook.site.name} is {'made anew' if anew else 'restored'}.",
            f"restore {result.id}, {result.seconds:.2f} s", "bold green")
    console.print(f"{count(result.rows, 'row')} and {count(result.files, 'file')} put in place; the rows were read "
                  "back and are equal.")
    if anew:
        console.print(f"It is in {outlook.site.home}, and speaks of {outlook.site.url}. Let that answer from there.",
                      soft_wrap=True)
        return
    console.print(f"Live spent {result.between * 1000:.1f} ms between two states.")
    console.print(f"What was replaced is in {result.safety}. Single things come back out of it with\n"
                  f"nostos restore {result.safety.name} SITE --take 'order/*'", soft_wrap=True)
    if result.late:
        console.print("Live gained something in the last moment, while it was being restored. It is in that backup "
                      "too.", style="bold red")


def brought_back(console: Console, result: MergeResult, site: Site) -> None:
    heading(console, f"Brought back into {site.name}.", f"{result.id}, {result.seconds:.2f} s", "bold green")
    console.print("Everything else on live is as it was.")


def coming_back(console: Console, prepared: PreparedMerge, site: Site) -> None:
    """Which items of a backup come back."""
    selection = prepared.plan.selection
    words = {"new": "comes back", "edited": "as it was then", "removed": "goes"}
    heading(console, f"Will come back into {site.name}: {len(selection.chosen)}", style="bold green")
    rows = [(c.item.id, words[c.item.change], f"needed: {c.because.reason}" if c.because else c.item.title)
            for c in selection.chosen]
    if rows:
        table(console, ("item", "what", "title"), rows, keep=(0, 1))
    for note in (*prepared.made.notes, *selection.warnings):
        console.print(clean(note))
    for item in selection.clashes:
        console.print(f"Cannot come back: {clean(item.id)}, {clean(item.reason)}.")
