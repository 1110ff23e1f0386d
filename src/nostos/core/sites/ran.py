"""A command of a site file that was run, as histories keep it: alone, for what shows histories needs nothing else."""

from __future__ import annotations

from nostos.core.records import dataclass

Arguments = tuple[str, ...]


@dataclass(frozen=True)
class RanCommand:
    """A command that was run. status: its exit status; None: it did not come to its end, and `why` says why not. said:
    the last of what it printed, and of its errors."""

    when: str
    arguments: Arguments
    status: int | None
    why: str
    seconds: float
    said: str  # as it stands in histories

    @property
    def failed(self) -> bool:
        """Whether the command did not end well."""
        return self.status != 0
