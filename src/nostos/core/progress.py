"""How long work tells its caller where it stands, without knowing who listens."""

from __future__ import annotations

from collections.abc import Callable

from nostos.core.records import dataclass


@dataclass(frozen=True)
class Progress:
    """Where a long step stands: its name, how much is done, out of how much (None: not known), in which unit.

    size: how many bytes have passed; 0 where they are not counted.
    """

    step: str
    done: int
    total: int | None
    unit: str
    size: int = 0


Listener = Callable[[Progress], None]


def silent(_: Progress) -> None:
    """A listener for callers who do not want to be told."""
