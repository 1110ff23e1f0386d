"""Voyages at a glance."""

from __future__ import annotations

from collections import Counter

from nostos.around import housekeeping
from nostos.core.anchor.open_voyage import opened
from nostos.core.errors import NostosError
from nostos.core.plan.prepared import compare_voyage
from nostos.core.records import dataclass
from nostos.core.voyages import history
from nostos.core.voyages.home import Home, Voyage


@dataclass(frozen=True)
class VoyageStatus:
    """One voyage: its age in seconds, how many items stand how, its last operation, what is wrong with it, and how many
    bytes its anchor and its journals take up."""

    voyage: Voyage
    age: float
    standings: dict[str, int]
    last: str
    trouble: str
    space: int = 0


def status(home: Home, name: str | None = None) -> list[VoyageStatus]:
    """The named voyage, or all of them. Raises VoyageError when the named one does not exist."""
    return [_status(home, home.read(n)) for n in ([name] if name else home.names())]


def _status(home: Home, voyage: Voyage) -> VoyageStatus:
    standings: dict[str, int] = {}
    trouble = ""
    try:
        with opened(home, voyage) as crew:
            comparison, _ = compare_voyage(crew)
            standings = dict(Counter(str(i.standing) for i in comparison.items.values()))
    except NostosError as error:
        trouble = error.what
    done = history.entries(home, voyage.name)
    last = f"{done[-1].verb} {done[-1].when[:16].replace('T', ' ')} {done[-1].result}" if done else ""
    taken = sum(s.bytes for s in housekeeping.space(home) if s.of == voyage.name and s.what != "backups")
    return VoyageStatus(voyage, voyage.age(), standings, last, trouble, taken)
