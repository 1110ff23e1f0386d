"""Choosing in a list with the keyboard: what `select --interactive` shows in a terminal."""

from __future__ import annotations

import curses
import io
import os
from collections.abc import Callable
from contextlib import suppress
from dataclasses import field
from typing import TYPE_CHECKING, Any

from rich.console import Console

from nostos.core.anchor.names import Side
from nostos.core.compare.field_merge import Standing
from nostos.core.compare.gather import describe_reference
from nostos.core.compare.items import Item
from nostos.core.errors import SelectionError
from nostos.core.patterns import clean
from nostos.core.plan.decisions import Decision
from nostos.core.plan.needs import Needs
from nostos.core.plan.prepared import PreparedMerge, prepare
from nostos.core.plan.selection import Choice
from nostos.core.records import dataclass
from nostos.show import comparing

if TYPE_CHECKING:
    from nostos.cli.environment import Environment
    from nostos.core.anchor.open_voyage import Crew

_HELP = "space take or leave   enter look   l live, s staging, n undecided   a whole kind   d done   q give up"


_COLOURS = {Standing.HOMEWARD: 1, Standing.BLENDED: 2, Standing.CLASH: 3}  # pairs


@dataclass
class Picker:
    """The list and what is chosen in it, without a screen. Lines are kinds (a text) and items."""

    items: dict[str, Item]
    needs: Needs
    taken: set[str]
    decidable: set[str]
    decided: dict[str, Side] = field(default_factory=dict)
    at: int = 0

    def __post_init__(self) -> None:
        shown = [i for i in self.items.values() if i.id in self.needs or i.standing is Standing.CLASH]
        self.lines: list[str | Item] = []
        for item in sorted(shown, key=lambda i: (i.kind, i.id)):
            if not self.lines or self._kind(self.lines[-1]) != item.kind:
                self.lines.append(item.kind)
            self.lines.append(item)
        self.move(0)

    @staticmethod
    def _kind(line: str | Item) -> str:
        return line if isinstance(line, str) else line.kind

    @property
    def current(self) -> Item | None:
        line = self.lines[self.at] if self.lines else None
        return line if isinstance(line, Item) else None

    def move(self, by: int) -> None:
        """Go up or down, over the headings."""
        last = len(self.lines) - 1
        at = max(0, min(last, self.at + by))
        step = 1 if by >= 0 else -1
        while 0 <= at <= last and isinstance(self.lines[at], str):
            at += step
        if not 0 <= at <= last:  # a heading is the first line
            at = next((n for n, line in enumerate(self.lines) if isinstance(line, Item)), 0)
        self.at = at

    def toggle(self) -> None:
        item = self.current
        if item is not None and item.id in self.needs:
            self.taken ^= {item.id}

    def toggle_kind(self) -> None:
        """Take all of a kind, or leave all if all are taken."""
        item = self.current
        if item is not None:
            same = {i for i in self.needs if self.items[i].kind == item.kind}
            self.taken = self.taken - same if same <= self.taken else self.taken | same

    def decide(self, side: Side | None) -> None:
        item = self.current
        if item is not None and item.id in self.decidable:
            if side is None:
                self.decided.pop(item.id, None)
            else:
                self.decided[item.id] = side

    def pulled(self) -> dict[str, str]:
        """What goes along because something taken needs it: name, and for whom."""
        pulled: dict[str, str] = {}
        queue = sorted(self.taken)
        while queue:
            for need in self.needs.get(queue.pop(0), ()):
                if need.on not in self.taken and need.on not in pulled:
                    pulled[need.on] = need.item
                    queue.append(need.on)
        return pulled

    def word(self, item: Item, pulled: dict[str, str]) -> str:
        """What happens with an item, in a word."""
        if item.id in self.decided:
            return str(self.decided[item.id])
        if item.id in self.taken:
            return "take"
        if item.id in pulled:
            return "needed"
        return "clash" if item.id not in self.needs else "leave"

    def choice(self) -> Choice:
        """What was chosen, for `prepare`."""
        take = tuple(sorted(self.taken))
        return Choice(take, prefer=tuple(Decision(n, s) for n, s in self.decided.items()), nothing=not take)


def pick(env: Environment, crew: Crew, prepared: PreparedMerge) -> PreparedMerge:
    """Let someone choose. Raises SelectionError when there is no terminal, or when they give up."""
    if not (env.stdin.isatty() and env.stdout.isatty()):
        raise SelectionError("Choosing in a list needs a terminal.",
                             next_step="Use --take, --leave and --prefer, or run it in a terminal.")
    # What stands in the way of an item, which no decision takes away, is told as well.
    items = {**prepared.undecided, **{n: i for n, i in prepared.comparison.items.items() if i.reason}}
    taken = {c.item.id for c in prepared.plan.selection.chosen if c.because is None}
    picker = Picker(items, prepared.needs, taken, {
        i.id for i in prepared.undecided.values() if i.standing is Standing.CLASH})
    for d in prepared.made.prefer:
        if not d.field and d.item in picker.items:
            picker.decided[d.item] = d.side

    def look(item: Item) -> list[str]:
        out = io.StringIO()
        console = Console(file=out, width=100, color_system=None, highlight=False, markup=False, emoji=False)
        comparing.item(console, item, prepared.needs,
                       lambda text: describe_reference(crew.anchor, prepared.comparison.rows, text))
        return out.getvalue().splitlines()

    if not curses.wrapper(_run, picker, look):
        raise SelectionError("You gave up.", next_step="Run it again when you like.")
    return prepare(crew, picker.choice())


def _run(screen: Any, picker: Picker, look: Callable[[Item], list[str]]) -> bool:
    with suppress(curses.error):  # a terminal that cannot
        curses.curs_set(0)
    if curses.has_colors():
        curses.use_default_colors()
        for number, colour in enumerate((curses.COLOR_GREEN, curses.COLOR_CYAN, curses.COLOR_RED), start=1):
            curses.init_pair(number, -1 if "NO_COLOR" in os.environ else colour, -1)
    top = 0
    while True:
        height, width = screen.getmaxyx()
        top = _draw(screen, picker, top, height, width)
        key = screen.getch()
        steps = {curses.KEY_DOWN: 1, ord("j"): 1, curses.KEY_UP: -1, ord("k"): -1, curses.KEY_NPAGE: height - 5,
                 curses.KEY_PPAGE: 5 - height}
        if key in steps:
            picker.move(steps[key])
        elif key == ord(" "):
            picker.toggle()
        elif key == ord("a"):
            picker.toggle_kind()
        elif key in (ord("l"), ord("s"), ord("n")):
            picker.decide({ord("l"): Side.LIVE, ord("s"): Side.STAGING}.get(key))
        elif key in (curses.KEY_ENTER, 10, 13) and picker.current is not None:
            _page(screen, look(picker.current))
        elif key == ord("d"):
            return True
        elif key == ord("q"):  # not Escape: keys that a terminal does not know begin with it
            return False


def _draw(screen: Any, picker: Picker, top: int, height: int, width: int) -> int:
    screen.erase()
    pulled = picker.pulled()
    room = max(1, height - 4)
    top = min(top, picker.at - 1 if picker.at else 0)
    top = max(top, picker.at - room + 1, 0)
    _put(screen, 0, 0, f"{len(picker.taken)} taken, {len(pulled)} needed, "
         f"{sum(i.standing is Standing.CLASH and i.id not in picker.decided for i in picker.items.values())} "
         "clashes undecided", width, curses.A_BOLD)
    for n, line in enumerate(picker.lines[top:top + room]):
        if isinstance(line, str):
            _put(screen, n + 1, 0, line, width, curses.A_DIM)
            continue
        word = picker.word(line, pulled)
        style = curses.A_REVERSE if top + n == picker.at else (
            curses.color_pair(_COLOURS.get(line.standing, 0)) if curses.has_colors() else curses.A_NORMAL)
        note = f" (for {pulled[line.id]})" if word == "needed" else ""
        _put(screen, n + 1, 0, f"  {word:<8} {line.standing:<9} {line.change:<8} {clean(line.id)}  "
             f"{clean(line.title)}{note}".ljust(width - 1), width, style)
    item = picker.current
    if item is not None and item.reason:
        _put(screen, height - 2, 0, clean(item.reason), width, curses.A_BOLD)
    _put(screen, height - 1, 0, _HELP, width, curses.A_BOLD)
    screen.refresh()
    return top


def _put(screen: Any, y: int, x: int, text: str, width: int, style: int) -> None:
    with suppress(curses.error):  # a terminal too small for it
        screen.addnstr(y, x, text, max(0, width - 1 - x), style)


def _page(screen: Any, lines: list[str]) -> None:
    """Show some text until a key is pressed that does not scroll."""
    top = 0
    while True:
        height, width = screen.getmaxyx()
        screen.erase()
        for n, line in enumerate(lines[top:top + height - 1]):
            _put(screen, n, 0, line, width, curses.A_NORMAL)
        _put(screen, height - 1, 0, "up, down to scroll; any other key to go back", width, curses.A_DIM)
        key = screen.getch()
        if key in (curses.KEY_DOWN, ord("j")):
            top = min(top + 1, max(0, len(lines) - height + 1))
        elif key in (curses.KEY_UP, ord("k")):
            top = max(0, top - 1)
        else:
            return
