"""The history: one line an operation, appended and flushed, with no secrets in it."""

from __future__ import annotations

import getpass
import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import field
from time import monotonic

import msgspec

from nostos.core.clock import now
from nostos.core.errors import NostosError
from nostos.core.records import dataclass
from nostos.core.sites.ran import RanCommand
from nostos.core.voyages.home import Home


@dataclass(frozen=True)
class HistoryEntry:
    """One operation. when: its start, ISO 8601 UTC. seconds: how long it took. result: how it ended.

    origin, target: from where to where. between: seconds that the site spent between two states. commands: those of the
    site file that were run around it. chosen_by, remarks: who chose what went, and what they said of items.
    """

    when: str
    who: str
    verb: str
    voyage: str
    site: str
    seconds: float
    result: str
    counts: dict[str, int] = field(default_factory=dict)
    origin: str = ""
    target: str = ""
    between: float | None = None
    commands: list[RanCommand] = field(default_factory=list)
    chosen_by: str = ""
    remarks: dict[str, str] = field(default_factory=dict)


@dataclass
class Record:
    """What a running operation has to say about itself once it has ended."""

    counts: dict[str, int] = field(default_factory=dict)
    result: str = "done"
    origin: str = ""
    target: str = ""
    between: float | None = None
    commands: list[RanCommand] = field(default_factory=list)
    chosen_by: str = ""
    remarks: dict[str, str] = field(default_factory=dict)

    def note_route(self, origin: str, target: str, between: float | None = None) -> None:
        """Say from where to where it went, and for how many seconds the target was between two states."""
        self.origin, self.target, self.between = origin, target, between


@contextmanager
def recorded(home: Home, verb: str, voyage: str, site: str) -> Iterator[Record]:
    """Write an operation into the history when it ends, however it ends."""
    record, when, start = Record(), now(), monotonic()
    try:
        yield record
    except NostosError as error:
        record.result = "interrupted" if error.status == 4 else f"refused: {error.what}"
        raise
    except BaseException as error:
        record.result = f"failed: {type(error).__name__}"
        raise
    finally:
        append(home, HistoryEntry(when, who(), verb, voyage, site, round(monotonic() - start, 3), record.result,
                           record.counts, record.origin, record.target,
                           None if record.between is None else round(record.between, 4), record.commands,
                           record.chosen_by, record.remarks))


def who() -> str:
    """The user's name, as the system knows it."""
    with suppress(Exception):
        return getpass.getuser()
    return str(os.getuid())


def append(home: Home, entry: HistoryEntry) -> None:
    """Add an entry to the history of a home, and flush it. Raises OSError."""
    home.make()
    descriptor = os.open(home.history, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
    with os.fdopen(descriptor, "ab") as file:
        file.write(msgspec.json.encode(entry) + b"\n")
        file.flush()
        os.fsync(file.fileno())


def entries(home: Home, voyage: str | None = None) -> list[HistoryEntry]:
    """The history, oldest first; a line that a crash cut short is passed over."""
    records = []
    if home.history.exists():
        for line in home.history.read_bytes().splitlines():
            with suppress(msgspec.DecodeError):
                entry = msgspec.json.decode(line, type=HistoryEntry)
                if voyage is None or entry.voyage == voyage:
                    records.append(entry)
    return records
