"""One hierarchy of errors. Each says what is wrong, what was left as it was, and what to do next."""

from __future__ import annotations


class NostosError(Exception):
    """Base of all errors that a user can meet.

    what: what is wrong, one sentence. left: what was left as it was. next_step: what to do now.
    status: the exit status that the command line gives for it (design, section 3).
    """

    status = 3

    def __init__(self, what: str, left: str = "Nothing was changed.", next_step: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.left = left
        self.next_step = next_step


class SiteError(NostosError):
    """A site, its configuration, its database or its files cannot be used."""


class NoSuchDatabase(SiteError):
    """The server is there, and the database is not."""


class HostError(NostosError):
    """Another machine cannot be reached, or does not do what it is asked."""


class HostLost(HostError):
    """The connection to another machine ended."""


class LockHeld(Exception):
    """A lock that another holds. who: the other, for people."""

    def __init__(self, who: str) -> None:
        super().__init__(who)
        self.who = who


class VoyageError(NostosError):
    """A voyage is missing, taken, half-made or its sites have vanished."""


class RecoverNeeded(VoyageError):
    """An operation was interrupted part-way."""

    status = 4


class SelectionError(NostosError):
    """A pattern matches nothing, or a need was left out."""


class MergeRefused(NostosError):
    """A merge cannot go ahead; live is as it was."""


class TargetMoved(MergeRefused):
    """What is written changed between comparing and committing; the merge may start again."""


LiveMoved = TargetMoved  # as callers of the library know it


class Disturbed(TargetMoved):
    """The database broke the transaction off (a deadlock, a lock that others hold, a lost connection); nothing of it is
    there, and it may be tried again."""


class Stopped(NostosError):
    """Someone stopped an operation before it had reached its commit; it was taken back."""


class MergeInterrupted(NostosError):
    """A merge stopped part-way and could not take itself back."""

    status = 4


def leaves(path: str) -> SiteError:
    """An error for a path that leads out of the folder that it is below."""
    return SiteError(f"The path {path!r} leaves its folder.", next_step="Rename the file, or leave it out.")


def led_away(path: str) -> SiteError:
    return SiteError(f"The path {path!r} leaves its folder through a link.",
                     next_step="Replace the link with a folder, or leave the file out.")


def led_elsewhere(path: str, led: str) -> SiteError:
    return SiteError(f"The link {path} leads elsewhere now: not to {led}.",
                     next_step="Lead it there again, or clone anew.")


def refused_path(reason: str, *details: object) -> SiteError | None:
    """What keeps a path from being used, by the helper's word for it; None for other words."""
    texts = [str(d) for d in details]
    match reason, texts:
        case "leaves", [path, *_]:
            return leaves(path)
        case "led away", [path, *_]:
            return led_away(path)
        case "led elsewhere", [path, led, *_]:
            return led_elsewhere(path, led)
    return None


def explained(error: BaseException) -> str:
    """What an error says, for people, as part of a sentence; never empty."""
    if isinstance(error, NostosError):
        return error.what.rstrip(".")
    if isinstance(error, OSError):
        where = f" ({str(error.filename).rpartition('/')[2]})" if error.filename else ""
        return f"{error.strerror or error or type(error).__name__}{where}"
    return str(error) or type(error).__name__
