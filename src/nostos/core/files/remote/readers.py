"""What another machine says of files, looked at before it is believed."""

from __future__ import annotations

import posixpath
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import wraps
from typing import Any, Concatenate, ParamSpec, TypeVar

from nostos.core.errors import HostError
from nostos.core.files.tree import FileTree, Owner, Status

T = TypeVar("T", bound=FileTree)
P = ParamSpec("P")
R = TypeVar("R")
_KINDS = ("file", "link", "folder", "other")


def broken(where: str) -> HostError:
    """An error for an answer of another machine's that cannot be understood."""
    return HostError(f"What comes from {where} cannot be understood.", next_step="Try again; if it goes on, report it.")


def status_of(facts: Any) -> Status:
    if (not isinstance(facts, list) or len(facts) != 9 or facts[0] not in _KINDS
            or not all(isinstance(n, int) for n in facts[1:])):
        raise broken("the other machine")
    return Status(*facts)


def leads_out(path: str, led: str) -> bool:
    """Whether a link leads out of its tree, by what is written in it."""
    target = posixpath.normpath(posixpath.join(posixpath.dirname(path), led))
    return led.startswith("/") or "\0" in led or target == ".." or target.startswith("../")


def owner_of(facts: Any) -> Owner:
    match facts:
        case [int(user), int(group), list(attributes)]:
            return Owner(user, group, tuple((str(name), bytes(value)) for name, value in attributes))
    raise broken("the other machine")


def owner_data(owner: Owner | None) -> list[Any] | None:
    return None if owner is None else [owner.user, owner.group, [list(a) for a in owner.attributes]]


@contextmanager
def understanding(where: str) -> Iterator[None]:
    """While what came from there is taken apart: what is of another form than it should be is the host's fault."""
    try:
        yield
    except (TypeError, ValueError, LookupError, AttributeError, OverflowError) as error:
        raise broken(where) from error


def understood(asking: Callable[Concatenate[T, P], R]) -> Callable[Concatenate[T, P], R]:
    """A method of a tree there that takes apart what it is told, with `understanding`."""
    @wraps(asking)
    def value(tree: T, /, *words: P.args, **more: P.kwargs) -> R:
        with understanding(tree.where):
            return asking(tree, *words, **more)
    return value
