"""Breaking an operation at every point at which something changes, and recovering: `python -m tests.faults`.

The operation runs in a process of its own, which counts whatever changes something: system calls on files, by Python's
audit events, and statements of databases. From the point of a given number on it is killed (SIGKILL), or the disk is
full, or its rights are gone. A new step is covered the day it is written, for nothing here knows the steps.
"""

from __future__ import annotations

import errno
import os
import re
import shutil
import signal
import sqlite3
import sys
import tempfile
import traceback
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from unittest import mock

from nostos.around.rehearsal.rehearse import RehearsalOptions, rehearse
from nostos.core.anchor.names import Side
from nostos.core.anchor.open_voyage import opened
from nostos.core.apply.merge import merge
from nostos.core.backup.outlook import inspect_backup
from nostos.core.backup.restore import restore
from nostos.core.backup.write import backup
from nostos.core.clone.afresh import afresh
from nostos.core.clone.clone import clone
from nostos.core.clone.remove import remove
from nostos.core.engines.mysql.connection import MysqlDatabase
from nostos.core.engines.postgresql.session import PostgresSession
from nostos.core.errors import NostosError, RecoverNeeded, SelectionError, VoyageError
from nostos.core.files.entry import STAMP
from nostos.core.hosts import connection as hosts
from nostos.core.hosts.connection import Connection
from nostos.core.plan.prepared import prepare
from nostos.core.plan.selection import Choice
from nostos.core.sites.lock import MARK, marks
from nostos.core.sites.recognise import recognise
from nostos.core.takeback.recover import recover
from nostos.core.takeback.undo import prepare_undo, to_take_back
from nostos.core.voyages.journal import unfinished
from nostos.demo.story import Story
from tests import stream
from tests.power import Disk
from tests.support import STAGING_URL, Harbour, state

_CHANGES = ("os.rename", "os.remove", "os.link", "os.symlink", "os.mkdir", "os.rmdir", "os.chmod", "os.utime",
            "os.truncate", "nostos.exchange")
_connect = sqlite3.connect
_STATUS = 10  # plus an error's status, how a process says how it ended
FAR_FAULTS = ("cut", "helper killed")
VERBS = ("merge", "refresh", "undo", "restore", "clone")
HERE = (*VERBS, "rehearse")  # what is done to a site on this machine alone, too
_READS = ("SELECT", "PRAGMA", "EXPLAIN", "SHOW", "SET ", "DECLARE", "FETCH", "CLOSE")


class Countdown:
    """Counts points; breaks this process at the point of this number.

    fault: "killed" there; "power cut" (killed, and whatever was not flushed is gone); or, from there on, "disk full"
    (nothing can be made or grow) or "no rights" (nothing can be changed). Of a site on another machine: "cut" (the
    connection ends) or "helper killed", where something is said to the helper; no other comes about in the process.
    """

    def __init__(self, number: int, fault: str = "killed", disk: Disk | None = None) -> None:
        self.disk = disk
        self.number = number
        self.fault = fault
        self.points = 0
        self.on = False

    def said(self, connection: Connection) -> None:
        """Something is about to be said to a helper."""
        if self.on and self.fault in FAR_FAULTS:
            self.points += 1
            if self.points == self.number:
                process = connection._started.process
                if self.fault == "cut":
                    with suppress(OSError):
                        os.close(process.stdin.fileno())
                else:
                    process.kill()
                    process.wait()
            if self.points > self.number and self.number % 3 == 0:  # the line stays down
                connection.wire.end("the line is down")

    def point(self, grows: bool, statement: bool = False) -> None:
        if not self.on or self.fault in FAR_FAULTS:
            return
        self.points += 1
        if self.points < self.number:
            return
        if self.fault in ("killed", "power cut") and self.points == self.number:
            self.on = False
            try:
                if self.disk is not None:
                    self.disk.cut()
            finally:
                os.kill(os.getpid(), signal.SIGKILL)
        if self.fault == "no rights":
            raise sqlite3.OperationalError("attempt to write a readonly database") if statement else OSError(
                errno.EACCES, "Permission denied")
        if self.fault == "disk full" and grows:
            raise sqlite3.OperationalError("database or disk is full") if statement else OSError(
                errno.ENOSPC, "No space left on device")

    def audit(self, event: str, args: tuple[Any, ...]) -> None:
        if event == "open" and isinstance(args[2], int) and args[2] & (os.O_WRONLY | os.O_RDWR | os.O_CREAT):
            self.point(grows=bool(args[2] & os.O_CREAT))
        elif event in _CHANGES:
            self.point(grows=event in ("os.mkdir", "os.link", "os.symlink"))
        if self.on and self.disk is not None:
            self.disk.audit(event, args)

    def connect(self, *args: Any, **options: Any) -> sqlite3.Connection:
        countdown = self

        class Connection(sqlite3.Connection):
            def execute(self, sql: str, *values: Any) -> sqlite3.Cursor:
                countdown.statement(sql)
                return super().execute(sql, *values)

            def executemany(self, sql: str, *values: Any) -> sqlite3.Cursor:
                countdown.statement(sql)
                return super().executemany(sql, *values)

        return _connect(*args, **{**options, "factory": Connection})

    def statement(self, sql: str) -> None:
        word = sql.lstrip().upper()
        if word.startswith("ROLLBACK") and self.fault in ("disk full", "no rights"):
            return  # it needs neither space nor rights
        if not word.startswith(_READS):
            self.point(grows=True, statement=True)


@dataclass(frozen=True)
class Ended:
    """How broken work ended: "done", "killed", "refused" or "interrupted"; with how many points."""

    how: str
    points: int = 0


def killed(work: Callable[[], object], number: int) -> int | None:
    """Run some work in a process that is killed at its point of this number. Returns how many points there were, when
    it came to its end; None when it was killed."""
    ended = broken(work, number, "killed")
    return ended.points if ended.how == "done" else None


def broken(work: Callable[[], object], number: int, fault: str) -> Ended:
    """Run some work in a process of its own that is broken at its point of this number."""
    read, write = os.pipe()
    hosts.close_all()  # a child has no use for its parent's connections
    pid = os.fork()
    if pid == 0:
        os.close(read)
        disk = Disk(Path(tempfile.mkdtemp(prefix="nostos-grave-"))) if fault == "power cut" else None
        countdown = Countdown(number, fault, disk)
        sys.addaudithook(countdown.audit)
        real, real_open = os.fsync, os.open

        def fsync(descriptor: int) -> None:  # what was written is one point, that it is on the disk another
            countdown.point(grows=True)
            real(descriptor)
            if disk is not None:
                disk.flush(descriptor)

        def opened(path: Any, flags: int, mode: int = 0o777, *, dir_fd: int | None = None) -> int:
            watched = disk is not None and countdown.on and not disk.off and flags & (os.O_WRONLY | os.O_RDWR)
            if watched:
                disk.opened(disk._full(path, dir_fd), flags)
            made = real_open(path, flags, mode, dir_fd=dir_fd)
            if watched:
                disk.written(made, os.fstat(made).st_size)
            return made

        os.fsync = fsync
        os.open = opened
        cursor = MysqlDatabase._cursor

        def counted(self: MysqlDatabase, sql: str, *args: Any, **options: Any) -> Any:
            countdown.statement(sql)
            return cursor(self, sql, *args, **options)

        MysqlDatabase._cursor = counted  # type: ignore[method-assign]
        run = PostgresSession.run

        def counted_run(self: PostgresSession, sql: str, *args: Any) -> Any:
            countdown.statement(sql)
            return run(self, sql, *args)

        PostgresSession.run = counted_run  # type: ignore[method-assign]
        run_one = PostgresSession.run_one

        def counted_one(self: PostgresSession, sql: str) -> None:
            countdown.statement(sql)
            run_one(self, sql)

        PostgresSession.run_one = counted_one  # type: ignore[method-assign]
        sqlite3.connect = countdown.connect  # type: ignore[assignment]
        speak = Connection.speaking

        def speaking(self: Connection) -> None:
            countdown.said(self)
            speak(self)

        Connection.speaking = speaking  # type: ignore[method-assign]
        try:
            countdown.on = True
            work()
            countdown.on = False
            os.write(write, countdown.points.to_bytes(8))
            os._exit(0)
        except (NostosError, OSError, sqlite3.Error) as error:
            countdown.on = False
            os._exit(_STATUS + (error.status if isinstance(error, NostosError) else NostosError.status))
        except BaseException:
            countdown.on = False
            traceback.print_exc()
            os._exit(1)
    os.close(write)
    said = os.read(read, 8)
    os.close(read)
    _, status = os.waitpid(pid, 0)
    if os.WIFSIGNALED(status):
        return Ended("killed")
    code = os.WEXITSTATUS(status)
    if code not in (0, _STATUS + 3, _STATUS + 4):
        raise AssertionError(f"the work failed at point {number}")
    return Ended({0: "done", _STATUS + 3: "refused"}.get(code, "interrupted"), int.from_bytes(said))


class Walk:
    """A voyage with work on both sides, copied afresh for every point. verb: one of `HERE`."""

    def __init__(self, folder: Path, verb: str, host: str = "") -> None:
        self.verb = verb
        self.host = host
        self.fresh, self.at = folder / "fresh", folder / "at"
        self.at.mkdir()  # voyages remember full paths, so each copy stands in the same place
        self.harbour = Harbour(self.at, host=host)
        backup(recognise(self.address("live")), self.at / "site.tar.zst")
        if verb == "clone":
            remove(self.harbour.home, self.harbour.home.read("trip"))
        else:
            story = Story(self.at)
            story.work_on_staging()
            story.life_on_live()
            (self.at / "staging/themes/dusk/style.css").write_text("/* new */\n")
            (self.at / "staging/empty").mkdir()
            (self.at / "live/gone").mkdir()
            clone(self.harbour.home, self.address("live"), "second", self.address("second"), "http://127.0.0.1:8433")
            (self.at / "second/themes/dusk/second.css").write_text("/* another voyage's */\n")
        if verb == "undo":
            self.merge(Side.LIVE)
            self.harbour.live.set("tagline", "Since")
        shutil.copytree(self.at, self.fresh, symlinks=True)
        self.before = self.states()
        self.work()
        self.after = self.states(), self.standings()
        self.again()

    def address(self, name: str) -> str:
        return f"{self.host}:{self.at / name}" if self.host else str(self.at / name)

    def again(self) -> None:
        hosts.close_all()
        shutil.rmtree(self.at)
        shutil.copytree(self.fresh, self.at, symlinks=True)

    def states(self) -> list[Any]:
        return [state(self.at / side) if (self.at / side).exists() else None for side in ("live", "staging")]

    def merge(self, toward: Side) -> None:
        home = self.harbour.home
        with home.lock("trip"), opened(home, home.read("trip")) as crew:
            merge(home, crew, prepare(crew, Choice(everyone=toward is Side.STAGING), toward=toward))

    def work(self) -> None:
        home = self.harbour.home
        if self.verb == "clone":
            clone(home, self.address("live"), "trip", self.address("staging"), STAGING_URL)
        elif self.verb == "restore":
            restore(home, inspect_backup(self.at / "site.tar.zst", recognise(self.address("live"))))
        elif self.verb == "rehearse":
            with home.lock("trip"), opened(home, home.read("trip")) as crew:
                rehearse(home, crew, Choice(), RehearsalOptions())
        elif self.verb == "undo":
            with home.lock("trip"), opened(home, home.read("trip")) as crew:
                merge(home, crew, prepare_undo(home, crew, to_take_back(home, "trip", None)))
        else:
            self.merge(Side.LIVE if self.verb == "merge" else Side.STAGING)

    def point(self, number: int, kill_recovery_at: int = 0, fault: str = "killed") -> bool:
        """Break the work at one point, recover, and look. False when there is no such point any more."""
        self.again()
        ended = broken(self.work, number, fault)
        if ended.how == "done" and ended.points < number:
            return False
        home = self.harbour.home
        half = any(unfinished(home.folder(n)) for n in home.names()) or unfinished(home.path, "restores")
        if half and self.verb not in ("clone", "refresh"):
            self.refused_to_others()
        if half and self.verb in ("merge", "undo") and number % 7 == 3:
            return self.without_staging(number, fault)
        if ended.how == "refused" and self.verb != "clone" and not same(self.states(), self.before):
            raise AssertionError(f"{self.verb}, {fault} at point {number}: refused, and yet something was changed")
        if kill_recovery_at:
            broken(lambda: recover(home), kill_recovery_at, fault if number % 2 else "disk full")
        recover(home)
        now = self.states()
        if self.verb == "clone" and fault == "power cut" and "trip" in home.names():
            return self.lost_in_the_cache()
        if self.verb == "clone" and not home.names():
            shutil.rmtree(self.at / "staging", ignore_errors=True)  # a folder without a stamp is nobody's
            now = self.states()
        if not any(same(now, then) for then in (self.before, self.after[0])):
            raise AssertionError(f"{self.verb}, {fault} at point {number}: neither before nor after")
        copies = [*self.at.glob(".nostos-*"), *(home.path / "rehearsals").glob("*/")]
        if list((self.at / "live").rglob(".nostos-*")) or copies or recover(home):
            raise AssertionError(f"{self.verb}, {fault} at point {number}: something was left behind")
        if same(now, self.before):
            self.work()
        if not same(self.states(), self.after[0]) or self.standings() != self.after[1]:
            raise AssertionError(f"{self.verb}, {fault} at {number}: not to be done again, or wrongly remembered")
        if number % 3 == 0:
            self.retired()
        return True

    def lost_in_the_cache(self) -> bool:
        """A copy that was finished, and not yet on the disk when the machine went down, is not believed."""
        home = self.harbour.home
        with mock.patch("nostos.core.voyages.home.boot", return_value="another"):
            try:
                with opened(home, home.read("trip")):
                    raise AssertionError("clone: what a power cut took of the copy would count as staging's work")
            except VoyageError:
                afresh(home, home.read("trip"))
        if not same(self.states(), self.after[0]):
            raise AssertionError("clone: not to be made afresh")
        return True

    def refused_to_others(self) -> None:
        """While something is unfinished on live, no other voyage writes there."""
        home = self.harbour.home
        try:
            with home.lock("second"), opened(home, home.read("second")) as crew:
                prepared = prepare(crew, Choice(("theme/*",)))
                if marks(crew.live) and merge(home, crew, prepared).id:
                    raise AssertionError(f"{self.verb}: another voyage wrote to a live that is half-way")
        except NostosError as error:
            if not isinstance(error, RecoverNeeded | SelectionError):
                raise

    def without_staging(self, number: int, fault: str) -> bool:
        """Staging is gone before anyone recovers: live is finished or taken back all the same."""
        shutil.rmtree(self.at / "staging")
        recover(self.harbour.home)
        if not any(same(self.states()[:1], then[:1]) for then in (self.before, self.after[0])):
            raise AssertionError(f"{self.verb}, {fault} at point {number}, staging gone: neither before nor after")
        self.retired()
        return True

    def retired(self) -> None:
        home = self.harbour.home
        for name in home.names():
            if remove(home, home.read(name)):
                raise AssertionError(f"{self.verb}: stuck; {name} cannot be retired")

    def standings(self) -> dict[str, str]:
        return {n: s for n, s in self.harbour.standings().items() if s != "settled"}


def same(one: list[Any], other: list[Any]) -> bool:
    """Whether two pairs of states are the same, but for the moment that a guard tells."""
    return without_moment(one) == without_moment(other)


def without_moment(states: list[Any]) -> str:
    return re.sub(r"\d{4}-\d\d-\d\dT[0-9:+]*", "", repr([(s[0], {p: d for p, d in s[1].items()
                                                                if p not in (STAMP, MARK)})
                                                        if s else None for s in states]))


@contextmanager
def another_machine(folder: Path) -> Iterator[None]:
    """What is said to ssh is done on this machine: the walk breaks the connection often, and needs no cipher."""
    way = folder / "way"
    way.write_text('#!/bin/sh\nexec /bin/sh -c "$2"\n')
    way.chmod(0o700)
    with mock.patch.dict(os.environ, {"NOSTOS_SSH": str(way)}):
        yield
    hosts.close_all()


def walk(verb: str, every: int = 1, start: int = 1, fault: str = "killed", host: str = "") -> int:
    """Walk every so many points of an operation. host: the one that both sites are on. Returns how many points were
    walked."""
    with tempfile.TemporaryDirectory(prefix="nostos-faults-") as made, another_machine(Path(made)):
        work = Walk(Path(made), verb, host)
        number, walked = start, 0
        while work.point(number, kill_recovery_at=number % 23, fault=fault):
            number, walked = number + every, walked + 1
        return walked


if __name__ == "__main__":
    total = 0
    for name in HERE:
        for which, step in (("killed", 1), ("power cut", 1), ("disk full", 3), ("no rights", 3)):
            points = walk(name, step, fault=which)
            total += points
            print(f"{name}, {which}: {points} points walked, each recovered", flush=True)
    for name in VERBS:
        for which in FAR_FAULTS:
            points = walk(name, 2, fault=which, host="far")
            total += points
            print(f"{name} on another machine, {which}: {points} points walked, each recovered", flush=True)
    from tests.real import postgres, test_postgresql

    for name in test_postgresql.VERBS if not postgres.missing() else ():
        points = test_postgresql.walk_on_server(name, 1)
        total += points
        print(f"{name} on PostgreSQL, killed: {points} points walked, each recovered", flush=True)
    print(f"{total} points walked. Neither before nor after: 0. Left behind: 0. Stuck: 0.")
    for told in stream.told(60):
        print(told, flush=True)
