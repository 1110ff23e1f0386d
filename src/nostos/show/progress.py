"""A progress bar on stderr for whatever takes over a second; plain lines where there is no terminal."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from time import monotonic
from typing import TYPE_CHECKING

from nostos.show.tables import size

if TYPE_CHECKING:
    from rich.console import Console

    from nostos.core.progress import Listener, Progress

_AFTER = 1.0  # seconds
_LINE_EVERY = 10.0  # seconds


@contextmanager
def shown(console: Console) -> Iterator[Listener]:
    """A listener for core's progress."""
    if console.is_terminal:
        yield from _bar(console)
    else:
        yield _lines(console)


def _bar(console: Console) -> Iterator[Listener]:
    from rich import progress

    bar = progress.Progress(progress.TextColumn("{task.description}"), progress.BarColumn(),
                            progress.TextColumn("{task.completed:,.0f} {task.fields[unit]}{task.fields[size]}"),
                            progress.TimeRemainingColumn(), console=console, transient=True)
    start = monotonic()
    tasks: dict[str, progress.TaskID] = {}

    def listen(p: Progress) -> None:
        if monotonic() - start < _AFTER:
            return
        if not tasks:
            bar.start()
        if p.step not in tasks:
            tasks[p.step] = bar.add_task(p.step, total=p.total, unit=p.unit, size="")
        bar.update(tasks[p.step], completed=p.done, total=p.total, size=f", {size(p.size)}" if p.size else "")

    try:
        yield listen
    finally:
        bar.stop()


def _lines(console: Console) -> Listener:
    last = start = monotonic()
    step = ""

    def listen(p: Progress) -> None:
        nonlocal last, start, step
        if p.step != step:
            step, start = p.step, monotonic()
        if monotonic() - last >= _LINE_EVERY:
            last = monotonic()
            left = (p.total - p.done) * (last - start) / p.done if p.total and p.done else 0
            console.print("".join((
                f"{p.step}: {p.done:,}", f" of {p.total:,}" if p.total else "", f" {p.unit}",
                f", {size(p.size)}" if p.size else "", f", about {left:,.0f} s left" if left >= 1 else "")))

    return listen
