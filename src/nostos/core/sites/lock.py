"""Only one Nostos at a time writes to a site, whichever home it works from, on whichever machine; and none does while
what another began is unfinished.

A lock on the site's own folder keeps others on this machine away, one in its database server those elsewhere; both end
with the process that holds them. Beside them lies a mark, from before something is changed until it is finished or
taken back: whoever finds it without its process knows that the site is half-way.
"""

from __future__ import annotations

import getpass
import socket
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime

import msgspec

from nostos.core.database.protocol import ServerLock
from nostos.core.errors import LockHeld, RecoverNeeded, VoyageError
from nostos.core.files.tree import FileTree
from nostos.core.files.trees import tree_at
from nostos.core.records import dataclass
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

    def __init__(self, site: Site, tree: FileTree, server: ServerLock | None) -> None:
        self.site = site
        self._tree = tree
        self._server = server

    def begin(self, operation: str, voyage: str) -> None:
        """Mark the site, before anything is changed. Raises TargetMoved where the lock was lost meanwhile."""
        by = "?"
        with suppress(Exception):
            by = getpass.getuser()
        mark = Mark(operation, voyage, by, socket.gethostname(), datetime.now(UTC).isoformat(timespec="seconds"))
        if self._server is not None:
            self._server.write_mark(operation, msgspec.json.encode(mark).decode())
        try:
            self._tree.remove(MARK)
            self._tree.write(MARK, msgspec.json.encode(mark) + b"\n", 0o600)
            self._tree.sync("")
        except BaseException:  # nothing is changed yet, so nothing is unfinished
            with suppress(OSError):
                self._tree.remove(MARK)
            raise

    def end(self, operation: str) -> None:
        """Take the mark away, once the operation is finished or taken back."""
        if self._server is not None:
            self._server.remove_mark(operation)
        mark = _read(self._tree)
        if mark is not None and mark.operation == operation:
            self._tree.remove(MARK)
            self._tree.sync("")

    def marks(self) -> list[Mark]:
        """The marks that are on the site while this is held."""
        mark = _read(self._tree)
        return [*([mark] if mark else []), *(_marks(self._server.unfinished()) if self._server else [])]

    def check(self) -> None:
        """Raise TargetMoved when the lock in the server is not ours any more."""
        if self._server is not None:
            self._server.check()


@contextmanager
def holding(site: Site, recovering: str = "") -> Iterator[Hold]:
    """Hold a site while writing to it. recovering: the operation whose mark may lie there.

    Raises VoyageError, saying who holds it, when it cannot be had in some seconds; RecoverNeeded when something else
    is unfinished on it.
    """
    tree, server = _tree(site), None
    try:
        with tree.lock(_WAIT_SECONDS):
            server = site.database.engine.lock(site.database)
            hold = Hold(site, tree, server)
            for mark in hold.marks():
                if mark.operation != recovering:
                    raise unfinished(site, mark)
            yield hold
    except LockHeld as held:
        raise VoyageError(f"Another nostos is at work on {site.name} ({held.who}).",
                          next_step="Wait until it has ended, then try again.") from None
    finally:
        if server is not None:
            server.close()


def check_finished(site: Site) -> None:
    """Raise RecoverNeeded when something on a site is unfinished, or under way this moment."""
    for mark in marks(site):
        raise unfinished(site, mark)


def marks(site: Site) -> list[Mark]:
    """What a site says of something unfinished, read without holding it."""
    mark = _read(_tree(site))
    return [mark] if mark else _marks(site.database.engine.unfinished(site.database))


def clear_half(site: Site) -> None:
    """Remove a mark that was cut short while it was written: nothing was changed after it."""
    tree = _tree(site)
    if _read(tree) is None and tree.status(MARK) is not None:
        with tree.lock(_WAIT_SECONDS):
            if _read(tree) is None:
                tree.remove(MARK)


def _marks(written: list[str]) -> list[Mark]:
    return [msgspec.json.decode(entry, type=Mark) for entry in written]


def unfinished(site: Site, mark: Mark) -> RecoverNeeded:
    """An error that says what is unfinished on a site, from the mark that it left there."""
    of = f" of voyage {mark.voyage}" if mark.voyage else ""
    again = f"nostos recover {mark.voyage}".strip()
    return RecoverNeeded(
        f"{site.name} is half-way through an operation{of} that was interrupted ({mark.operation}, by {mark.by} on "
        f"{mark.host}, {mark.since}).", left="Nothing was done now.",
        next_step=f"Run `{again}` there, as {mark.by}: it finishes it or takes it back.")


def _tree(site: Site) -> FileTree:
    return site.files if site.has_files else tree_at(site.home)


def _read(tree: FileTree) -> Mark | None:
    try:
        return msgspec.json.decode(tree.read(MARK, 65536), type=Mark)
    except FileNotFoundError:
        return None
    except OSError:  # another user's
        info = tree.status(MARK)
        return None if info is None else Mark(
            "its name is private", "", f"user {info.user}", socket.gethostname(),
            datetime.fromtimestamp(info.modified / 1e9, UTC).isoformat(timespec="seconds"))
    except (msgspec.DecodeError, msgspec.ValidationError):
        return None  # cut short: nothing is changed before it is whole
