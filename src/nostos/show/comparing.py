"""Showing a comparison: the list of items, and one item field by field."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from difflib import SequenceMatcher
from typing import TYPE_CHECKING, Any

from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from nostos.core.compare.field_merge import Standing
from nostos.core.compare.naming import plain_name
from nostos.core.patterns import clean
from nostos.core.plan.reading_order import group_of, in_reading_order
from nostos.core.plan.selection import stays
from nostos.core.profiles.parts import GROUPS
from nostos.core.profiles.policies import PLAIN
from nostos.core.values.alignment import matches
from nostos.core.values.merging import ABSENT
from nostos.core.values.php import Raw
from nostos.core.values.structures import StructuredValue, jsonable
from nostos.show import learning
from nostos.show.plain_markup import all_plain, made_plain
from nostos.show.tables import count, heading, table

if TYPE_CHECKING:
    from rich.console import Console

    from nostos.core.compare.items import Comparison, Field, Item
    from nostos.core.plan.needs import Needs

Describe = Callable[[str], str]
_TEXT = 80  # letters of a text, where a title or a word is shorter
_LONG = 2000  # units of a text that are shown beside others without more ado
_WORD = {Standing.HOMEWARD: "green", Standing.BLENDED: "cyan", Standing.CLASH: "bold red", Standing.KEPT: "",
         Standing.SETTLED: "dim", Standing.OPEN: "bold yellow"}


def comparison(console: Console, comparison: Comparison, needs: Needs, standings: Sequence[str] = (),
               kinds: Sequence[str] = (), every: bool = False) -> None:
    """Items by what a person wants to know first: what would go home, what clashes, what stays, what is kept. kinds:
    only these. every: each item, however many there are."""
    items = [i for i in comparison.items.values() if not kinds or i.kind in kinds]
    going = [i for i in items if i.id in needs and not i.visitors and i.standing is not Standing.CLASH]
    test = [i for i in items if i.visitors and (i.id in needs or stays(i))]
    clashes = [i for i in items if i.standing is Standing.CLASH and not stays(i)]
    kept = [i for i in items if i.standing is Standing.KEPT]
    settled = [i for i in items if i.standing is Standing.SETTLED]
    if standings:
        for standing in standings:
            chosen = [i for i in items if i.standing == standing]
            heading(console, f"{standing.capitalize()}: {len(chosen)}")
            _list(console, comparison, chosen, needs, standing in (Standing.CLASH, Standing.OPEN), every)
        if Standing.OPEN in standings and comparison.questions:
            console.print()
            learning.questions(console, comparison.questions)
        return
    waiting = [i for i in items if i.standing is Standing.OPEN and not i.visitors]
    heading(console, f"Would go home: {len(going)}", "changed in staging by editors and administrators", "bold green")
    _list(console, comparison, going, needs, every=every)
    if clashes:
        console.print()
        heading(console, f"Clashes: {len(clashes)}", "live stays as it is", "bold red")
        _list(console, comparison, clashes, needs, True, every)
    if test:
        console.print()
        heading(console, f"Stays in staging unless named: {len(test)}", "made by visitors there, so test data")
        _list(console, comparison, test, needs, every=every)
    console.print()
    moved = kept or clashes or any(i.standing in (Standing.BLENDED, Standing.SETTLED) for i in items)
    heading(console, f"Kept: {len(kept)}", "live's own work, which no merge touches" if moved else "live has not moved")
    table(console, ("", "", ""), _by_kind(kept), right=(0,), keep=(0, 1))
    if settled:
        console.print()
        heading(console, f"Settled: {len(settled)}", "both sides made the same change")
    if waiting:
        console.print()
        heading(console, f"Open: {len(waiting)}", "a question first", "bold yellow")
        _list(console, comparison, waiting, needs, True, every)
    if comparison.questions:
        console.print()
        console.print(f"{count(len(comparison.questions), 'question')} first: `nostos learn VOYAGE --interactive` asks "
                      f"{'it' if len(comparison.questions) == 1 else 'them'}, and nothing is asked twice.",
                      soft_wrap=True)
    if not every and any(len(some) > SCREENFUL for some in (going, clashes, test, waiting)):
        console.print()
        console.print("Counts stand for what is too long to read. Each by name: --kind KIND, --standing S, or --all.")
    if comparison.exported:
        console.print()
        console.print(f"The exported files say otherwise than staging's database, or nothing, of "
                      f"{', '.join(map(clean, comparison.exported))}. Whoever imports them on live undoes what went "
                      "home: export them again in staging first.", soft_wrap=True)
    if comparison.rows.skipped:
        console.print()
        console.print(f"Not compared, for want of a key: {', '.join(map(clean, comparison.rows.skipped))}")


def _by_kind(items: Iterable[Item]) -> list[tuple[str, str, str]]:
    kinds: dict[str, list[Item]] = {}
    for item in items:
        kinds.setdefault(item.kind, []).append(item)
    rows = []
    for kind, group in kinds.items():
        names = [i.id.partition("/")[2] + ("" if i.change == "new" else f" ({i.change})") for i in group[:4]]
        rows.append((str(len(group)), kind, ", ".join(names) + (", ..." if len(group) > 4 else "")))
    return rows


SCREENFUL = 40  # items that a person reads one by one


_GROUPS = {"content": "Pages and content", "files": "Pictures and files", "menus": "Menus", "settings": "Settings",
           "design": "Design", "updates": "Updates", "structure": "Structure", "": "The rest"}


def grouped(console: Console, items: Iterable[Item], comparison: Comparison, needs: Needs) -> None:
    """More items than anybody reads: how many of each kind came, were edited, are gone, and a few of their names; as
    people think of them, with what is part of them."""
    groups: dict[tuple[int, str, str], list[Item]] = {}
    parts: dict[tuple[int, str, str], int] = {}
    at: dict[str, tuple[int, str, str]] = {}
    for over, item in in_reading_order(items, comparison, needs):
        if over:
            at[item.id] = at[over[0]]
            parts[at[item.id]] = parts.get(at[item.id], 0) + 1
        else:
            at[item.id] = group_of(item, comparison.rows.profile), item.kind, item.change
            groups.setdefault(at[item.id], []).append(item)
    rows: list[tuple[str | Text, ...]] = []
    before = -1
    tables = comparison.rows.every_table
    for (group, kind, change), some in groups.items():
        name = Text(_GROUPS[[*GROUPS, ""][group]], style="bold")
        names = ", ".join(clean(i.title or i.id.partition("/")[2]) for i in some[:3])
        names += ", ..." if len(some) > 3 else ""
        more = f"; {count(parts[group, kind, change], 'part')} of " + ("it" if len(some) == 1 else "them") if (
            group, kind, change) in parts else ""
        plain = plain_name(kind, tables) if kind in tables else kind
        rows.append(("" if before == group else name, f"{len(some):,}",
                     plain if plain == kind else f"{plain} ({kind})", change, names + more))
        before = group
    table(console, ("", "", "kind", "what", ""), rows, right=(1,), keep=(0, 1, 2, 3))


def _list(console: Console, comparison: Comparison, items: Sequence[Item], needs: Needs, why: bool = False,
          every: bool = False) -> None:
    if len(items) > SCREENFUL and not every:
        grouped(console, items, comparison, needs)
        return
    rows = []
    for over, item in in_reading_order(items, comparison, needs):
        rows.append((Text("  " * len(over) + clean(item.id), style=_WORD[item.standing]), item.change,
                     item.reason if why and item.reason else _summary(item, needs, over), item.title))
    if rows:
        table(console, ("item", "what", "where" if why else "fields", "title"), rows, keep=(0, 1))


def _summary(item: Item, needs: Needs, over: Sequence[str] = ()) -> str:
    """What changed in an item, in a few words. over: what it is part of, and so needs anyhow."""
    if item.change == "removed" and not item.schema:
        return "removed in staging" if item.standing is not Standing.KEPT else "removed on live"
    if item.schema:
        return "definition"
    if item.folder:
        return count(len(item.fields), "file")
    if item.change == "new":
        wanted = sorted({n.on for n in needs.get(item.id, ()) if not n.part} - set(over))  # parts stand below
        return f"needs {', '.join(wanted)}" if wanted else ""
    words = {Standing.BLENDED: " (blended)", Standing.CLASH: " (clash)", Standing.KEPT: " (kept)"}
    if item.standing is Standing.CLASH and item.id in needs:  # listed once, with what of it goes home all the same
        words[Standing.HOMEWARD] = " (goes home)"
    shown = [f for f in item.fields if f.standing is not Standing.SETTLED and not f.merged.policy.quiet]
    # A part that came or went as a whole is named once, not column by column.
    names = list(dict.fromkeys(
        (f.name.rpartition(".")[0] if f.row != item.root and f.column and f.merged.base is ABSENT and "." in f.name
         else f.name) + words.get(f.standing, "") for f in shown))
    return ", ".join(names[:6]) + (", ..." if len(names) > 6 else "")


def item(console: Console, shown: Item, needs: Needs, describe: Describe, known: Sequence[str] = ()) -> None:
    """One item, field by field; text as a readable difference. known: which layer said what of it."""
    line = Text(clean(shown.id), style="bold")
    line.append(f"  {shown.change}, stands {shown.standing}", style=_WORD[shown.standing])
    console.print(line)
    if shown.title:
        console.print(f"  {clean(shown.title)}")
    if shown.reason:
        console.print(Text(f"  {clean(shown.reason)}", style="red"))
    for need in needs.get(shown.id, ()):
        console.print(Text(f"  needs {need.on}: {need.reason}"))
    # Of what one side removed, only what the other changed since is worth a look.
    gone = shown.change == "removed" and not shown.schema
    side = Standing.HOMEWARD if any(f.merged.source is ABSENT for f in shown.fields) else Standing.KEPT
    new = is_new_thing(shown)
    if new:
        _whole(console, shown, describe)
    for field in () if new else shown.fields:
        if gone and field.standing is side:
            continue
        console.print()
        _field(console, field, describe)
    if gone and side is Standing.HOMEWARD and not shown.reason:
        console.print("  removed in staging; live has left it as it was")
    if known:
        console.print()
        console.print("  Known of it", style="bold")
        for label in known:
            console.print(Text(f"    {clean(label)}", style="dim"))


def is_new_thing(item: Item) -> bool:
    """Whether an item is new, and is shown as a reader sees it: no change of the schema, and no folder of files."""
    return item.change == "new" and not item.schema and not item.folder


def fields_of_new(item: Item, describe: Describe) -> list[tuple[Field, str]]:
    """What there is to see of a new thing, as a reader would: its title, its texts, then the rest; never what is empty.
    """
    shown = []
    for field in item.fields:
        value = field.merged.target if field.merged.source is ABSENT else field.merged.source
        text = made_plain(value_text(value, describe))
        if value not in (None, ABSENT, "") and text.strip():
            shown.append((0 if text == item.title else 1 if len(text) > _TEXT else 2, field, text))
    return [(field, text) for _, field, text in sorted(shown, key=lambda s: s[0])]


def _whole(console: Console, item: Item, describe: Describe) -> None:
    """A new thing."""
    console.print()
    rows = [(Text(clean(f.name), style="dim"), Text("\n".join(map(clean, text.splitlines())), style=(
        "cyan" if f.standing is Standing.BLENDED else "red" if f.standing is Standing.CLASH else "")))
        for f, text in fields_of_new(item, describe)]
    table(console, ("", ""), rows)


def _field(console: Console, field: Field, describe: Describe) -> None:
    merged = field.merged
    line = Text(f"  {clean(field.name)}", style="bold")
    line.append(f"  {merged.standing}", style=_WORD[merged.standing])
    if merged.policy is not PLAIN:
        line.append(f" ({merged.policy})", style="dim")
    console.print(line)
    base, live, staging = all_plain([value_text(v, describe) for v in (merged.base, merged.target, merged.source)])
    if merged.base is ABSENT and (merged.target is ABSENT or merged.source is ABSENT):
        side, text = ("staging", staging) if merged.target is ABSENT else ("live", live)
        _lines(console, f"{side} added", text, "green")
        return
    if merged.standing is Standing.SETTLED:
        _difference(console, "both sides", base, live)
        return
    if merged.standing is Standing.CLASH and base is not None and max(map(len, (base, live, staging))) > 100:
        _side_by_side(console, base, live, staging)
        console.print(Text("    Both changed it differently. A merge leaves live's.", style="red"))
        return
    if base != staging:
        _difference(console, "staging", base, staging)
    if base != live:
        _difference(console, "live", base, live)
    if merged.standing is Standing.BLENDED and merged.policy.in_pieces:
        _lines(console, "after a merge", made_plain(value_text(merged.result, describe)), "cyan")
    elif merged.standing is Standing.CLASH:
        console.print(Text("    Both changed it differently. A merge leaves live's.", style="red"))


def value_text(value: Any, describe: Describe) -> str:
    """A portable value for people."""
    if value is ABSENT:
        return "(none)"
    if isinstance(value, StructuredValue | Raw | list | dict):
        value = jsonable(value)
    if isinstance(value, dict | list):
        return describe(json.dumps(value, ensure_ascii=False, indent=2))
    if isinstance(value, bytes):
        return f"({len(value):,} bytes)"
    return "(null)" if value is None else describe(str(value))


def _side_by_side(console: Console, base: str, live: str, staging: str) -> None:
    """Three versions of a long value in columns: the lines that are alike everywhere are left out, but their count."""
    parts = [[line for line in clean(t).splitlines() if line.strip()] for t in (base, live, staging)]
    rows: list[tuple[Text, Text, Text]] = []
    alike = 0

    def skipped() -> None:
        nonlocal alike
        if alike:
            rows.append((Text(f"({count(alike, 'line')} alike)", style="dim"), Text(), Text()))
        alike = 0

    for old, mine, theirs in _aligned(*parts):
        if old == mine == theirs:
            alike += 1
            continue
        skipped()
        rows.append((Text("\n".join(old)), _words("\n".join(old), "\n".join(mine))[1],
                     _words("\n".join(old), "\n".join(theirs))[1]))
    skipped()
    shown = Table(box=None, padding=(0, 2, 0, 0), header_style="bold", pad_edge=False, expand=True)
    for head in ("at the anchor", "live", "staging"):
        shown.add_column(head, overflow="fold", ratio=1)
    for row in rows:
        shown.add_row(*row)
    console.print(Padding(shown, (0, 0, 0, 4)))


def _aligned(base: list[str], live: list[str], staging: list[str]) -> Iterator[tuple[list[str], list[str], list[str]]]:
    """Stretches of the three versions that stand beside each other: a line, or what is between two equal lines."""
    same = [matches(base, other) for other in (live, staging)]
    at = [0, 0, 0]
    for n in [*(n for n in range(len(base)) if n in same[0] and n in same[1]), len(base)]:
        to = [n, same[0].get(n, len(live)), same[1].get(n, len(staging))]
        if at != to:
            yield base[at[0]:to[0]], live[at[1]:to[1]], staging[at[2]:to[2]]
        if n < len(base):
            yield [base[n]], [base[n]], [base[n]]
        at = [to[0] + 1, to[1] + 1, to[2] + 1]


def _lines(console: Console, side: str, text: str, style: str) -> None:
    lines = [line for line in clean(text).splitlines() if line.strip()] or [""]
    if len(lines) == 1:
        console.print(Text.assemble(f"    {side}: ", (lines[0], style)))
        return
    console.print(f"    {side}:")
    for line in lines:
        console.print(Text(f"      {line}", style=style))


def _difference(console: Console, side: str, old: str, new: str) -> None:
    """What one side changed: the lines that went and came, with the words that differ marked."""
    a, b = ([line for line in clean(t).splitlines() if line.strip()] for t in (old, new))
    if len(a) <= 1 and len(b) <= 1 and len(old) + len(new) < 100:
        gone, come = ("".join(lines) or '""' for lines in (a, b))
        console.print(Text.assemble(f"    {side}: ", (gone, "red"), " -> ", (come, "green")))
        return
    console.print(f"    {side}:")
    for tag, a1, a2, b1, b2 in SequenceMatcher(None, a, b, autojunk=len(a) > _LONG).get_opcodes():
        if tag == "equal":
            for line in a[a1:a2] if a2 - a1 <= 2 else [a[a1], f"... {a2 - a1 - 2} lines alike ...", a[a2 - 1]]:
                console.print(Text(f"        {line}", style="dim"))
            continue
        left, right = _words("\n".join(a[a1:a2]), "\n".join(b[b1:b2]))
        for mark, text, style in (("-", left, "red"), ("+", right, "green")):
            for marked in text.split("\n") if text.plain else []:
                console.print(Text.assemble((f"      {mark} ", style), marked))


def _words(old: str, new: str) -> tuple[Text, Text]:
    """Two texts with the words that differ marked: by colour, and in brackets where there is none."""
    a, b = split(old), split(new)
    gone, come = Text(style="red"), Text(style="green")
    for tag, a1, a2, b1, b2 in SequenceMatcher(None, a, b, autojunk=len(a) > _LONG).get_opcodes():
        marked = tag != "equal" and old and new
        gone.append("".join(a[a1:a2]), style="bold underline" if marked else None)
        come.append("".join(b[b1:b2]), style="bold underline" if marked else None)
    return gone, come


def split(text: str) -> list[str]:
    """A text as words and what is between them."""
    return re.findall(r"\s+|[^\s]+", text)
