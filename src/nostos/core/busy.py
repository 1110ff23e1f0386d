"""Only one Nostos at a time writes to a site, whichever home it works from, on whichever machine.

A lock on the site's own folder keeps others on this machine away, one in its database server those elsewhere. Neither
leaves anything behind: both end with the process that holds them.
"""

from __future__ import annotations

import fcntl
import hashlib
import os
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from nostos.core.database.mysql import MysqlDatabase
from nostos.core.errors import VoyageError
from nostos.core.site import Site

_WAIT_SECONDS = 5.0


@contextmanager
def holding(site: Site) -> Iterator[None]:
    """Hold a site while writing to it. Raises VoyageError, saying who holds it, when it cannot be had in some seconds.
    """
    folder = os.open(site.files if site.has_files else site.home, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    database = None
    try:
        _lock_folder(folder, site)
        if not site.database.none and site.database.file is None:
            database = site.open()
            assert isinstance(database, MysqlDatabase)
            _lock_server(database, site)
        yield
    finally:
        if database is not None:
            database.close()
        os.close(folder)


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


def _lock_server(database: MysqlDatabase, site: Site) -> None:
    place = f"{site.database.url.database}\n{site.database.prefix}"
    name = "nostos:" + hashlib.sha256(place.encode()).hexdigest()[:32]
    got = database.run("SELECT GET_LOCK(%s, %s)", (name, int(_WAIT_SECONDS)))[0][0]
    if str(got) == "1":
        return
    who = "on another machine"
    with suppress(database.driver.MySQLError, IndexError):
        number = database.run("SELECT IS_USED_LOCK(%s)", (name,))[0][0]
        user, host = database.run("SELECT user, host FROM information_schema.processlist WHERE id = %s", (number,))[0]
        who = f"connection {number} of {user} from {host}"
    raise _held(site, who)


def _held(site: Site, who: str) -> VoyageError:
    return VoyageError(f"Another nostos is at work on {site.name} ({who}).",
                       next_step="Wait until it has ended, then try again.")
