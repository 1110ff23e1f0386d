"""Only one Nostos at a time writes to a site, whichever home it works from, on whichever machine; and none does while
what another began is unfinished.

A lock on the site's own folder keeps others on this machine away, one in its database server those elsewhere; both end
with the process that holds them. Beside them lies a mark, from before something is changed until it is finished or
taken back: whoever finds it without its process knows that the site is half-way.
"""

from __future__ import annotations

import fcntl
import getpass
import hashlib
import os
import socket
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import msgspec

from nostos.core.database.mysql.connection import MysqlDatabase
from nostos.core.database.mysql.session import MARKS
from nostos.core.database.protocol import Database
from nostos.core.errors import LiveMoved, RecoverNeeded, VoyageError
from nostos.core.private_files import sync_descriptor
from nostos.core.sites.recognise import Site

MARK = ".nostos-unfinished"  # in the site's folder
_WAIT_SECONDS = 5.0
_ALIVE_SECONDS = 20.0  # how often a waiting connection is used, so that no server ends it


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

    def __init__(self, site: Site, folder: int, server: _Server | None) -> None:
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
            self._server.begin(mark)
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
            self._server.end(operation)
        found = _read(self._folder)
        if found is not None and found.operation == operation:
            os.unlink(MARK, dir_fd=self._folder)
            sync_descriptor(self._folder)

    def marks(self) -> list[Mark]:
        found = _read(self._folder)
        return [*([found] if found else []), *(self._server.marks() if self._server else [])]

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
        if not site.database.none and site.database.file is None:
            server = _Server(site)
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
    if found is None and not site.database.none and site.database.file is None:
        database = site.open(readonly=True)
        try:
            return _rows(database)
        finally:
            database.close()
    return [found] if found else []


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


class _Server:
    """The lock in a site's database server. Its connection is used all the while, lest the server end it."""

    def __init__(self, site: Site) -> None:
        self.site = site
        place = f"{site.database.url.database}\n{site.database.prefix}"
        self.name = "nostos:" + hashlib.sha256(place.encode()).hexdigest()[:32]
        self._one_at_a_time = threading.Lock()
        self._ended = threading.Event()
        self.database = self._open()
        try:
            self._lock()
        except BaseException:
            self.database.close()
            raise
        self._thread = threading.Thread(target=self._stay, daemon=True)
        self._thread.start()

    def _open(self) -> MysqlDatabase:
        database = self.site.open()
        assert isinstance(database, MysqlDatabase)
        return database

    def _lock(self) -> None:
        got = self.database.run("SELECT GET_LOCK(%s, %s)", (self.name, int(_WAIT_SECONDS)))[0][0]
        if str(got) == "1":
            return
        who = "on another machine"
        with suppress(self.database.driver.MySQLError, IndexError):
            number = self.database.run("SELECT IS_USED_LOCK(%s)", (self.name,))[0][0]
            user, host = self.database.run(
                "SELECT user, host FROM information_schema.processlist WHERE id = %s", (number,))[0]
            who = f"connection {number} of {user} from {host}"
        raise _held(self.site, who)

    def _stay(self) -> None:
        while not self._ended.wait(_ALIVE_SECONDS):
            with self._one_at_a_time, suppress(self.database.driver.MySQLError):
                self.database.run("SELECT 1")

    def _ours(self) -> bool:
        try:
            return str(self.database.run("SELECT IS_USED_LOCK(%s) = CONNECTION_ID()", (self.name,))[0][0]) == "1"
        except self.database.driver.MySQLError:
            return False

    def check(self) -> None:
        """Raise LiveMoved when the lock was lost, and had to be taken again: another may have been here meanwhile."""
        with self._one_at_a_time:
            if self._ours():
                return
            self.database.close()
            self.database = self._open()
            self._lock()
        raise LiveMoved("The database server had ended the connection that held the site.",
                        next_step="Try again; if it stays so, ask the host why it ends connections.")

    def begin(self, mark: Mark) -> None:
        self.check()
        with self._one_at_a_time:
            self.database.run(f"CREATE TABLE IF NOT EXISTS {self.database.real(MARKS)} (operation VARCHAR(64) "
                              "PRIMARY KEY, said TEXT NOT NULL) ENGINE=InnoDB")
            self.database.run(f"REPLACE INTO {self.database.real(MARKS)} VALUES (%s, %s)",
                              (mark.operation, msgspec.json.encode(mark).decode()))

    def end(self, operation: str) -> None:
        with self._one_at_a_time:
            if not self._ours():  # its connection is gone
                self.database.close()
                self.database = self._open()
            if MARKS in _names(self.database):
                self.database.run(f"DELETE FROM {self.database.real(MARKS)} WHERE operation = %s", (operation,))
                if not _rows(self.database):
                    self.database.run(f"DROP TABLE {self.database.real(MARKS)}")

    def marks(self) -> list[Mark]:
        with self._one_at_a_time:
            return _rows(self.database)

    def close(self) -> None:
        self._ended.set()
        self._thread.join()
        self.database.close()


def _names(database: MysqlDatabase) -> set[str]:
    return {n for (n,) in database.run("SELECT SUBSTRING(table_name, %s) FROM information_schema.tables "
                                       "WHERE table_schema = %s AND table_name = %s", (
                                           len(database.prefix) + 1, database.name, database.prefix + MARKS))}


def _rows(database: Database) -> list[Mark]:
    assert isinstance(database, MysqlDatabase)
    if MARKS not in _names(database):
        return []
    found: list[Any] = database.run(f"SELECT said FROM {database.real(MARKS)}")
    return [msgspec.json.decode(said, type=Mark) for (said,) in found]


def _held(site: Site, who: str) -> VoyageError:
    return VoyageError(f"Another nostos is at work on {site.name} ({who}).",
                       next_step="Wait until it has ended, then try again.")
