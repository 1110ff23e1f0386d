"""Voyages: the record of a staging copy, and the private folder where all of them are kept."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import replace
from datetime import UTC, datetime
from enum import StrEnum
from pathlib import Path

import msgspec
import platformdirs

from nostos.core.errors import VoyageError
from nostos.core.expressions import expression
from nostos.core.private_files import make_private, write_private
from nostos.core.records import dataclass

_NAME = expression(r"[A-Za-z0-9][A-Za-z0-9._-]{0,62}")


class VoyageState(StrEnum):
    """How far a voyage has come."""

    CLONING = "cloning"
    READY = "ready"


@dataclass(frozen=True)
class Voyage:
    """One staging copy of a live site.

    live, staging: where the two sites are recognised from. into: the folder that clone made. made: everything that
    clone makes, for retiring it. since: when the anchor was dropped, ISO 8601.
    """

    name: str
    id: str
    live: str
    live_name: str
    live_url: str
    staging: str
    into: str
    url: str
    database: str
    since: str
    state: VoyageState = VoyageState.CLONING
    # Where clone put staging's rows: the file or database, the prefix of its tables, and what it made for them
    # ("file", "database" or "tables"). elsewhere: not on live's server.
    place: str = ""
    prefix: str = ""
    made: str = ""  # a `Made`; empty as long as nothing is
    tables: tuple[str, ...] = ()  # the full names of what was made in a database that is not the voyage's alone
    alone: bool = False  # the prefix was made up for this copy: whatever is under it is the copy's
    elsewhere: bool = False
    engine: str = "sqlite"  # whose place it is; voyages of old that do not say so, and have a file, are of this one
    user: str = ""  # the server's user who was made for staging, as name@host
    unflushed: str = ""  # which run of the machine made the copy, as long as it may not be on the disk

    def age(self, now: datetime | None = None) -> float:
        """Seconds since the clone."""
        return ((now or datetime.now(UTC)) - datetime.fromisoformat(self.since)).total_seconds()


class Home:
    """The folder where voyages and the history are kept; private to its owner."""

    def __init__(self, path: Path | None = None) -> None:
        self._held: dict[str, int] = {}
        self.path = path or Path(platformdirs.user_data_dir("nostos", appauthor=False))

    def make(self) -> None:
        """Make the private folder, if it is not there."""
        make_private(self.path / "voyages")

    def folder(self, name: str) -> Path:
        """The folder of a voyage, whether it is there or not."""
        return self.path / "voyages" / name

    @property
    def history(self) -> Path:
        return self.path / "history.jsonl"

    def names(self) -> list[str]:
        """The names of the voyages, sorted."""
        folder = self.path / "voyages"
        return sorted(p.name for p in folder.iterdir() if (p / "voyage.json").is_file()) if folder.is_dir() else []

    def read(self, name: str) -> Voyage:
        """The voyage of this name. Raises VoyageError when there is none."""
        try:
            return msgspec.json.decode((self.folder(name) / "voyage.json").read_bytes(), type=Voyage)
        except FileNotFoundError:
            names = ", ".join(self.names())
            raise VoyageError(f"There is no voyage named {name}.",
                              next_step=f"There are: {names}." if names else "`nostos clone` makes one.") from None
        except msgspec.DecodeError as error:
            raise VoyageError(f"The record of voyage {name} is damaged: {error}.",
                              next_step=f"Look at {self.folder(name)}.") from error

    def write(self, voyage: Voyage) -> None:
        """Store a voyage's record, all or nothing."""
        folder = self.folder(voyage.name)
        folder.mkdir(mode=0o700, exist_ok=True)
        write_private(folder / "voyage.json", msgspec.json.format(msgspec.json.encode(voyage)))

    def only(self, name: str | None) -> Voyage:
        """The named voyage, or the only one there is. Raises VoyageError otherwise."""
        if name is not None:
            return self.read(name)
        names = self.names()
        if len(names) == 1:
            return self.read(names[0])
        if not names:
            raise VoyageError("There is no voyage yet.", next_step="`nostos clone SITE VOYAGE` makes one.")
        raise VoyageError("There are several voyages.", next_step=f"Name one of: {', '.join(names)}.")

    @contextmanager
    def lock(self, name: str) -> Iterator[None]:
        """Hold a voyage, so that two commands do not work on it at once. A dead process holds nothing. Whoever holds
        it may hold it again."""
        if self._held.get(name):
            yield
            return
        import filelock

        self.make()
        holder = self.path / "voyages" / f".{name}.holder"
        lock = filelock.FileLock(self.path / "voyages" / f".{name}.lock", timeout=5, mode=0o600)
        try:
            lock.acquire()
        except filelock.Timeout:
            who = holder.read_text() if holder.is_file() else "not known which"
            raise VoyageError(f"Another nostos is at work on voyage {name} ({who}).",
                              next_step="Wait until it has ended, then try again.") from None
        self._held[name] = 1
        try:
            with suppress(OSError):
                write_private(holder, f"process {os.getpid()}, since {datetime.now(UTC):%H:%M:%S} UTC".encode())
            yield
        finally:
            del self._held[name]
            lock.release()

    def forget(self, name: str) -> None:
        """Remove all that is kept of a voyage; but not its lock, for others may wait for that very file."""
        self.clear(name)
        (self.path / "voyages" / f".{name}.holder").unlink(missing_ok=True)

    def clear(self, name: str) -> None:
        """Remove a voyage's folder."""
        folder = self.folder(name)
        if folder.is_dir():
            for entry in folder.iterdir():  # the record goes last: as long as it is there, this can be done again
                if entry.name != "voyage.json":
                    shutil.rmtree(entry) if entry.is_dir() else entry.unlink()
            shutil.rmtree(folder)


def check_name(name: str) -> None:
    """Raise VoyageError unless a voyage can be called so."""
    if not _NAME.fullmatch(name):
        raise VoyageError(f"A voyage cannot be called {name!r}.",
                          next_step="Use letters, digits, dots, dashes and underlines, up to 63.")


def ready(voyage: Voyage) -> Voyage:
    """A voyage whose copy is finished. The copy may be in the machine's memory still: it is not waited for."""
    return replace(voyage, state=VoyageState.READY, unflushed=boot())


def boot() -> str:
    """What tells this run of the machine from another."""
    with suppress(OSError):
        return Path("/proc/sys/kernel/random/boot_id").read_text().strip()
    return "?"
