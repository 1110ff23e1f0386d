"""Visitors who order all the while: every order that was acknowledged to them is there afterwards, as it was."""

from __future__ import annotations

import multiprocessing
import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass
from multiprocessing.synchronize import Event
from pathlib import Path

from nostos.core.apply.merge import merge
from nostos.core.errors import TargetMoved
from nostos.core.plan.prepared import prepare
from nostos.core.takeback.undo import prepare_undo, to_take_back
from nostos.demo.story import Story
from nostos.demo.system import Observatory
from tests.support import Harbour, dangling, rows


@dataclass(frozen=True)
class Found:
    """What came of it: orders acknowledged, those that are not there or not as they were, rounds of merge and undo, and
    the longest that a visitor waited, seconds."""

    written: int
    lost: list[str]
    rounds: int
    slowest: float


def _visit(folder: Path, said: Path, stop: Event) -> None:
    """Order, and write down what was acknowledged, until told to stop."""
    site = Observatory(folder)
    ticket = site.find("product", "evening-ticket")["id"]
    with said.open("a") as acknowledged:
        number = 0
        while not stop.is_set():
            number += 1
            begun = time.monotonic()
            made = site.order(f"kr-s{number}", f"Visitor {number}", [(ticket, number % 4 + 1, 900)])
            acknowledged.write(f"{made} kr-s{number} {number % 4 + 1} {time.monotonic() - begun:.4f}\n")
            acknowledged.flush()
            time.sleep(0.005)


def run(seconds: float) -> Found:
    """Merge and undo the story's work again and again while visitors order."""
    with tempfile.TemporaryDirectory(prefix="nostos-stream-") as made:
        folder = Path(made)
        h = Harbour(folder)
        story = Story(folder)
        story.work_on_staging()
        story.life_on_live()
        said, stop = folder / "said", multiprocessing.Event()
        said.touch()
        visitor = multiprocessing.get_context("fork").Process(target=_visit, args=(h.live_folder, said, stop))
        visitor.start()
        rounds, until = 0, time.monotonic() + seconds
        try:
            while time.monotonic() < until:
                try:
                    with h.crew() as crew:
                        merge(h.home, crew, prepare(crew))
                    with h.crew() as crew:
                        merge(h.home, crew, prepare_undo(h.home, crew, to_take_back(h.home, "trip", None)))
                    rounds += 1
                except TargetMoved:
                    continue  # refused, with live as it was
        finally:
            stop.set()
            visitor.join()
        if visitor.exitcode:
            raise AssertionError("a visitor was turned away")
        there = {r[0]: r[1:] for r in rows(h.live.database, "SELECT c.id, c.slug, l.quantity FROM content c "
                                                            "JOIN order_lines l ON l.order_id = c.id")}
        lost, slowest, count = [], 0.0, 0
        for line in said.read_text().splitlines():
            number, slug, quantity, took = line.split()
            count, slowest = count + 1, max(slowest, float(took))
            if there.get(int(number)) != (slug, int(quantity)):
                lost.append(slug)
        lost += [f"dangling {d}" for d in dangling(h.live.database)]
        return Found(count, lost, rounds, slowest)


def told(seconds: float) -> Iterator[str]:
    found = run(seconds)
    yield (f"stream: {found.written} orders written while {found.rounds} merges were made and taken back; "
           f"lost: {len(found.lost)}; the longest that an order took: {found.slowest * 1000:.0f} ms")
