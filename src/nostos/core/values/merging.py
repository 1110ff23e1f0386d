"""Three versions of one value merged: lists, sets, texts."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any, TypeVar

from nostos.core.values.alignment import matches
from nostos.core.values.structures import StructuredValue


class _Absent:
    """There is no such field on this side."""

    def __repr__(self) -> str:
        return "ABSENT"

    def __bool__(self) -> bool:
        return False


ABSENT = _Absent()


def same(one: Any, other: Any) -> bool:
    """Equal, and of one type: 1, 1.0 and True are three values here, at any depth."""
    if type(one) is not type(other):
        return False
    if isinstance(one, StructuredValue):
        return same(one.data, other.data)
    if isinstance(one, dict):
        return list(one) == list(other) and all(same(v, other[k]) for k, v in one.items())
    if isinstance(one, list):
        return len(one) == len(other) and all(map(same, one, other))
    return bool(one == other)


def merge_sets(base: list[Any], live: list[Any], staging: list[Any]) -> list[Any]:
    """Live's list without what staging took out and with what staging put in, in live's order."""
    def holds(some: list[Any], value: Any) -> bool:
        return any(same(value, other) for other in some)

    kept = [v for v in live if holds(staging, v) or not holds(base, v)]
    return kept + [v for v in staging if not holds(base, v) and not holds(live, v)]


def merge_text(base: str, live: str, staging: str, lines: bool = False) -> str | None:
    """The text with both sides' changes, when they are in different paragraphs; None when they meet. lines: every line
    end counts, as in a program.

    Works on paragraphs and lines as units, after Khanna, Kunal and Pierce, "A Formal Investigation of Diff3" (2007):
    stretches that are equal on all three sides hold the text together, and between two of them at most one side may
    have changed.
    """
    a, b, c = (t.splitlines(keepends=True) if lines else _units(t) for t in (base, live, staging))
    result = in_stretches(a, b, c, [a, b, c], lambda *_: None)
    return None if result is None else "".join(result)


T = TypeVar("T")


def in_stretches(a: list[T], b: list[T], c: list[T], units: list[list[str]],
                  meeting: Callable[[list[T], list[T], list[T]], list[T] | None]) -> list[T] | None:
    """Three versions of a sequence merged stretch by stretch. units: what tells the entries of each apart. meeting:
    gives a stretch that both sides changed, or None when it cannot be merged."""
    in_live, in_staging = matches(units[0], units[1]), matches(units[0], units[2])
    result: list[T] = []
    at = [0, 0, 0]

    def settle(to: tuple[int, int, int]) -> bool:
        part_a, part_b, part_c = (u[start:end] for u, start, end in zip(units, at, to, strict=True))
        live, staging = b[at[1]:to[1]], c[at[2]:to[2]]
        if part_b == part_c or part_c == part_a:
            result.extend(live)
        elif part_b == part_a:
            result.extend(staging)
        else:
            pairs = meeting(a[at[0]:to[0]], live, staging)
            if pairs is None:
                return False
            result.extend(pairs)
        return True

    for n in range(len(a)):
        if n in in_live and n in in_staging:
            if not settle((n, in_live[n], in_staging[n])):
                return None
            result.append(b[in_live[n]])
            at = [n + 1, in_live[n] + 1, in_staging[n] + 1]
    return result if settle((len(a), len(b), len(c))) else None


def _units(text: str) -> list[str]:
    """Lines, and what stands between them, each a unit: so that a last line without an end is the same line."""
    return [unit for unit in re.split(r"(\s*\n\s*)", text) if unit]
