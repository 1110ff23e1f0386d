"""Asking another machine about a tree: one thing, many at once, or one after another."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any

from nostos.core.files.remote.readers import broken, status_of, understanding
from nostos.core.files.tree import ANYTHING, Asked, Call, FileTree, Signature, checked
from nostos.core.hosts.connection import Connection, reach
from nostos.core.hosts.far_path import AnyPath, FarPath, on_machine
from nostos.core.hosts.helper import Failed

AT_ONCE = 2000  # paths in one call
_LOOKS = frozenset(("status", "names", "link", "led", "digest", "entry", "free", "may_write", "owner", "within",
                    "content"))


class FarAsking(FileTree):
    """A tree below a folder of another machine, as far as it is asked about."""

    def __init__(self, root: FarPath) -> None:
        self.root = root
        self.not_given = []
        self.called = {}
        self.meant = {}
        self._ahead: dict[tuple[Any, ...], Any] = {}

    @property
    def connection(self) -> Connection:
        return reach(self.root.host)

    @property
    def host(self) -> str:
        return self.root.host

    @property
    def where(self) -> str:
        return str(self.root)

    @property
    def at(self) -> AnyPath:
        return self.root

    def within(self, place: AnyPath) -> str | None:
        if not isinstance(place, FarPath) or place.host != self.root.host:
            return None
        answer = self._ask("within", on_machine(place))
        return answer if isinstance(answer, str) else None

    # --- asking

    def _there(self, path: str) -> str:
        """The path that a file lies at."""
        return "/".join(checked(self.called.get(path, path))) if path else ""

    def _where(self) -> list[Any]:
        """The tree, as a helper is told of it: its root, and the links in it that are followed."""
        return [str(self.root.path), [[path, led] for path, led in self.followed.items()]]

    def _ask(self, what: str, *words: Any) -> Any:
        if what not in _LOOKS:
            self._ahead.clear()
        elif (what, *words) in self._ahead:
            return self._given(self._ahead[what, *words])
        return self.connection.ask("tree", self._where(), what, *words)

    def _given(self, value: Any) -> Any:
        match value:
            case [True, found]:
                return found
            case [False, str(reason), *details]:
                raise self.connection.raised(Failed(reason, *details))
        raise broken(self.where)

    @contextmanager
    def looking_ahead(self, asked: Iterable[Asked]) -> Iterator[None]:
        calls = list(dict.fromkeys((name, on_machine(where) if name == "within" else self._there(where), *rest)
                                   for name, where, *rest in asked))
        for at in range(0, len(calls), AT_ONCE):
            some = calls[at:at + AT_ONCE]
            answers = self.connection.ask("many", self._where(), [list(c) for c in some], False)
            with understanding(self.where):
                self._ahead |= zip(some, answers, strict=True)
        try:
            yield
        finally:
            self._ahead.clear()

    def in_order(self, calls: Sequence[Call]) -> list[Any]:
        self._ahead.clear()
        answers: list[Any] = []
        while len(answers) < len(calls):
            some = calls[len(answers):len(answers) + AT_ONCE]
            replies = self.connection.ask("many", self._where(), [self._plain(c) for c in some], True)
            for call, one in zip(some, replies, strict=False):
                words = self._given(one)
                answers.append(Signature.of(status_of(words)) if call.name == "signature" and words else words)
                if call.expected is not ANYTHING and answers[-1] != call.expected:
                    return answers
            if len(replies) < len(some):
                raise broken(self.where)
        return answers

    def _plain(self, call: Call) -> list[Any]:
        """A call as it is said: the helper stops where it does not give what is expected."""
        expected = call.expected
        words = [call.name, *(self._there(p) for p in call.args)]
        if isinstance(expected, Signature):
            expected = [expected.kind, expected.mode, expected.size, expected.inode, expected.time]
        return [words, expected is not ANYTHING, None if expected is ANYTHING else expected]
