"""What a text must hold for a regular expression to find anything in it: a cheap first look for a database."""

from __future__ import annotations

import re
from functools import lru_cache
from typing import Any

from nostos.core.expressions import expression

_MOST = 16  # alternatives
_SHORTEST = 2  # letters
_PLAIN = expression(r"[\w:=. -]+", re.ASCII)  # what no way of escaping changes


@lru_cache(maxsize=512)
def needed(pattern: str) -> frozenset[str]:
    """Some texts of which every match of a pattern holds at least one, however it may be escaped where it is kept;
    empty: none is known."""
    if re.compile(pattern).flags & re.IGNORECASE:
        return frozenset()
    plain = {max(_PLAIN.findall(text), key=len, default="") for text in _needed(pattern)}
    return frozenset(plain) if plain and min(map(len, plain)) >= _SHORTEST else frozenset()


def _needed(pattern: str) -> frozenset[str]:
    best: frozenset[str] = frozenset()
    run: frozenset[str] = frozenset({""})
    for node in (*re._parser.parse(pattern), None):  # type: ignore[attr-defined]
        exact = None if node is None else _exact(node)
        longer = frozenset(a + b for a in run for b in exact) if exact is not None else frozenset()
        if exact is not None and len(longer) <= _MOST:
            run = longer
            continue
        if min(map(len, run)) > min(map(len, best), default=_SHORTEST - 1):
            best = run
        run = exact if exact is not None else frozenset({""})
        if exact is None and node is not None:
            inner = _within(node)
            if inner and min(map(len, inner)) > min(map(len, best), default=_SHORTEST - 1):
                best = inner
    return best


def _exact(node: tuple[Any, Any]) -> frozenset[str] | None:
    """All texts that a part of a pattern stands for; None where that cannot be listed."""
    kind, content = str(node[0]), node[1]
    if kind == "LITERAL":
        return frozenset({chr(content)})
    if kind == "AT":
        return frozenset({""})
    if kind == "SUBPATTERN":
        return _sequence(content[-1])
    if kind == "BRANCH":
        branches = [_sequence(branch) for branch in content[1]]
        return None if None in branches else frozenset(t for some in branches for t in some or ())
    if kind == "IN" and all(str(k) == "LITERAL" for k, _ in content):
        return frozenset(chr(v) for _, v in content)
    if kind == "MAX_REPEAT" and (content[0], content[1]) == (0, 1):
        inner = _sequence(content[2])
        return None if inner is None else inner | {""}
    return None


def _sequence(nodes: Any) -> frozenset[str] | None:
    texts: frozenset[str] = frozenset({""})
    for node in nodes:
        exact = _exact(node)
        if exact is None or len(texts) * len(exact) > _MOST:
            return None
        texts = frozenset(a + b for a in texts for b in exact)
    return texts


def _within(node: tuple[Any, Any]) -> frozenset[str]:
    """What must be within a group that has to be there."""
    return frozenset() if str(node[0]) != "SUBPATTERN" else _of(node[1][-1])


def _of(nodes: Any) -> frozenset[str]:
    best: frozenset[str] = frozenset()
    for node in nodes:
        exact = _exact(node)
        if exact and min(map(len, exact)) > min(map(len, best), default=_SHORTEST - 1):
            best = exact
    return best
