"""What another machine says of files, looked at before it is believed."""

from __future__ import annotations

import posixpath
from typing import Any

from nostos.core.errors import HostError
from nostos.core.files.tree import Owner, Status

_KINDS = ("file", "link", "folder", "other")


def broken(where: str) -> HostError:
    return HostError(f"What comes from {where} cannot be understood.", next_step="Try again; if it goes on, report it.")


def status_of(found: Any) -> Status:
    if (not isinstance(found, list) or len(found) != 9 or found[0] not in _KINDS
            or not all(isinstance(n, int) for n in found[1:])):
        raise broken("the other machine")
    return Status(*found)


def leads_out(path: str, led: str) -> bool:
    """Whether a link leads out of its tree, by what is written in it."""
    target = posixpath.normpath(posixpath.join(posixpath.dirname(path), led))
    return led.startswith("/") or "\0" in led or target == ".." or target.startswith("../")


def owner_of(found: Any) -> Owner:
    match found:
        case [int(user), int(group), list(attributes)]:
            return Owner(user, group, tuple((str(name), bytes(value)) for name, value in attributes))
    raise broken("the other machine")


def owner_data(owner: Owner | None) -> list[Any] | None:
    return None if owner is None else [owner.user, owner.group, [list(a) for a in owner.attributes]]
