"""Plain tables: words in columns, no frames."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from nostos.core.patterns import clean

if TYPE_CHECKING:
    from rich.console import Console


def table(console: Console, heads: Sequence[str], rows: Iterable[Sequence[str | Text]], indent: int = 2,
          right: Sequence[int] = (), keep: Sequence[int] = (0,)) -> None:
    """Print rows under heads. right: columns set to the right. keep: columns that are never shortened or folded."""
    shown = Table(box=None, padding=(0, 2, 0, 0), show_header=any(heads), header_style="dim", pad_edge=False)
    for n, head in enumerate(heads):
        shown.add_column(head, justify="right" if n in right else "left", no_wrap=n in keep or n in right,
                         overflow="fold")
    for row in rows:
        shown.add_row(*(clean(c) if isinstance(c, str) else c for c in row))
    console.print(Padding(shown, (0, 0, 0, indent), expand=False))


def heading(console: Console, text: str, note: str = "", style: str = "bold") -> None:
    line = Text(text, style=style)
    if note:
        line.append(f"  {note}", style="dim")
    console.print(line)


def count(number: int, one: str, many: str = "") -> str:
    """`1 order`, `9 orders`."""
    return f"{number:,} {one if number == 1 else many or one + 's'}"


def size(number: int) -> str:
    """Bytes for people."""
    amount = float(number)
    for unit in ("bytes", "kB", "MB", "GB"):
        if amount < 1000 or unit == "GB":
            return f"{amount:,.0f} {unit}" if unit == "bytes" else f"{amount:,.1f} {unit}"
        amount /= 1000
    raise AssertionError


def age(seconds: float) -> str:
    """A length of time for people."""
    if seconds < 90:
        return f"{seconds:.0f} s"
    if seconds < 90 * 60:
        return f"{seconds / 60:.0f} min"
    return f"{seconds / 3600:.0f} h" if seconds < 48 * 3600 else f"{seconds / 86400:.0f} days"
