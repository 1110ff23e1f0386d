"""Only one Nostos at a time writes to a site, whichever home it works from, on whichever machine; and none does while
what another began is unfinished.

A lock on the site's own folder keeps others on this machine away, one in its database server those elsewhere; both end
with the process that holds them. Beside them lies a mark, from before something is changed until it is finished or
taken back: whoever finds it without its process knows that the site is half-way.
"""

from __future__ import annotations

import fcntl
import getpass
import os
import socket
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from nostos.core.database.protocol import Held, ServerLock
from nostos.core.errors import RecoverNeeded, VoyageError
from nostos.core.private_files import sync_descriptor
from nostos.core.sites.recognise import Site

MARK = ".nostos-unfinished"  # in the site's folder
_WAIT_SECONDS = 5.0


@dataclass(frozen=True)
class Mark:
    """What a site says of something unfinished: which operation, of which voyage, by whom, on which machine, since when
    (ISO 8601)."""

    operation: str
    voyage: str
    by: str
    host: str
    since: str


class Hold:
    """A site that is held. begin, end: what is being done to it is unfinished in between, for everyone to see."""

    def __init__(self, site: Site, folder: int, server: ServerLock | None) -> None:
        self.site = site
        self._folder = folder
        self._server = server

    def begin(self, operation: str, voyage: str) -> None:
        """Mark the site, before anything is changed. Raises LiveMoved where the lock was lost meanwhile."""
        by = "?"
        with suppress(Exception):
            by = getpass.getuser()
        mark = Mark(operation, voyage, by, socket.gethostname(), datetime.now(UTC).isoformat(timespec="seconds"))
        if self._server is not None:
            self._server.keep(operation, msgspec.json.encode(mark).decode())
        try:
            descriptor = os.open(MARK, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600,
                                 dir_fd=self._folder)
            try:
                os.write(descriptor, msgspec.json.encode(mark) + b"\n")
                os.fsync(descriptor)
            finally:
                os.close(descriptor)
            sync_descriptor(self._folder)
        except BaseException:  # nothing is changed yet, so nothing is unfinished
            with suppress(OSError):
                os.unlink(MARK, dir_fd=self._folder)
            raise

    def end(self, operation: str) -> None:
        """Take the mark away, once the operation is finished or taken back."""
        if self._server is not None:
            self._server.forget(operation)
        found = _read(self._folder)
        if found is not None and found.operation == operation:
            os.unlink(MARK, dir_fd=self._folder)
            sync_descriptor(self._folder)

    def marks(self) -> list[Mark]:
        found = _read(self._folder)
        return [*([found] if found else []), *(_marks(self._server.unfinished()) if self._server else [])]

    def check(self) -> None:
        """Raise LiveMoved when the lock in the server is not ours any more."""
        if self._server is not None:
            self._server.check()


@contextmanager
def holding(site: Site, recovering: str = "") -> Iterator[Hold]:
    """Hold a site while writing to it. recovering: the operation whose mark may lie there.

    Raises VoyageError, saying who holds it, when it cannot be had in some seconds; RecoverNeeded when something else
    is unfinished on it.
    """
    folder = os.open(_folder(site), os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    server = None
    try:
        _lock_folder(folder, site)
        try:
            server = site.database.engine.lock(site.database)
        except Held as held:
            raise _held(site, held.who) from None
        hold = Hold(site, folder, server)
        for mark in hold.marks():
            if mark.operation != recovering:
                raise unfinished(site, mark)
        yield hold
    finally:
        if server is not None:
            server.close()
        os.close(folder)


def check_finished(site: Site) -> None:
    """Raise RecoverNeeded when something on a site is unfinished, or under way this moment."""
    for mark in marks(site):
        raise unfinished(site, mark)


def marks(site: Site) -> list[Mark]:
    """What a site says of something unfinished, read without holding it."""
    folder = os.open(_folder(site), os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        found = _read(folder)
    finally:
        os.close(folder)
    return [found] if found else _marks(site.database.engine.unfinished(site.database))


def _marks(written: list[str]) -> list[Mark]:
    return [msgspec.json.decode(said, type=Mark) for said in written]


def unfinished(site: Site, mark: Mark) -> RecoverNeeded:
    of = f" of voyage {mark.voyage}" if mark.voyage else ""
    again = f"nostos recover {mark.voyage}".strip()
    return RecoverNeeded(
        f"{site.name} is half-way through an operation{of} that was interrupted ({mark.operation}, by {mark.by} on "
        f"{mark.host}, {mark.since}).", left="Nothing was done now.",
        next_step=f"Run `{again}` there, as {mark.by}: it finishes it or takes it back.")


def _folder(site: Site) -> Path:
    return site.files if site.has_files else site.home


def _read(folder: int) -> Mark | None:
    try:
        descriptor = os.open(MARK, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=folder)
    except FileNotFoundError:
        return None
    except OSError:  # another user's
        info = os.stat(MARK, dir_fd=folder, follow_symlinks=False)
        return Mark("its name is private", "", f"user {info.st_uid}", socket.gethostname(),
                    datetime.fromtimestamp(info.st_mtime, UTC).isoformat(timespec="seconds"))
    try:
        return msgspec.json.decode(os.read(descriptor, 65536), type=Mark)
    except (msgspec.DecodeError, msgspec.ValidationError):
        return None  # cut short: nothing is changed before it is whole
    finally:
        os.close(descriptor)


def _lock_folder(folder: int, site: Site) -> None:
    until = time.monotonic() + _WAIT_SECONDS
    while True:
        try:
            fcntl.flock(folder, fcntl.LOCK_EX | fcntl.LOCK_NB)
            return
        except BlockingIOError:
            if time.monotonic() > until:
                raise _held(site, _holder(folder)) from None
            time.sleep(0.1)
        except OSError:
            return  # a filesystem without locks


def _holder(folder: int) -> str:
    """Whose lock it is, as the system lists them."""
    inode = os.fstat(folder).st_ino
    with suppress(OSError):
        for line in Path("/proc/locks").read_text().splitlines():
            parts = line.split()
            if parts[1] == "FLOCK" and parts[5].endswith(f":{inode}"):
                return f"process {parts[4]} on this machine"
    return "on this machine"


def _held(site: Site, who: str) -> VoyageError:
    return VoyageError(f"Another nostos is at work on {site.name} ({who}).",
                       next_step="Wait until it has ended, then try again.")
