"""Three-way merging of single fields. Nothing here knows of tables, files or sides' ids: values are portable."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from difflib import SequenceMatcher
from enum import StrEnum
from typing import Any, TypeVar

from nostos.core.anchor.names import Side
from nostos.core.profiles.model import Policy
from nostos.core.values.structures import Path, Tree, put


class Standing(StrEnum):
    """How a field, or an item, stands (design, section 2)."""

    HOMEWARD = "homeward"
    KEPT = "kept"
    BLENDED = "blended"
    CLASH = "clash"
    SETTLED = "settled"


class _Absent:
    """There is no such field on this side."""

    def __repr__(self) -> str:
        return "ABSENT"

    def __bool__(self) -> bool:
        return False


ABSENT = _Absent()


@dataclass(frozen=True)
class FieldMerge:
    """One field that is not the same everywhere: its path inside a structured value (empty: the whole value), the
    three values, how it stands, and what live has when it is taken. decided: for which side, where it was a clash."""

    path: Path
    policy: Policy
    base: Any
    live: Any
    staging: Any
    standing: Standing
    result: Any
    decided: Side | None = None


def merge(policy: Policy, base: Any, live: Any, staging: Any,
          paths: Mapping[Path, Policy] | None = None) -> Iterator[FieldMerge]:
    """What changed between three values of a field; nothing where nothing did.

    A structure yields one result for each key that changed, however deep. paths: policies of single keys inside it.
    """
    trees = (base, live, staging)
    if policy is Policy.STRUCTURE and any(isinstance(v, Tree) for v in trees) and not any(
            v.rigid for v in trees if isinstance(v, Tree)):
        known = [v.data if isinstance(v, Tree) else v for v in trees]
        yield from _structure((), known[0], known[1], known[2], paths or {})
        return
    if policy is Policy.SET:
        base, live, staging = (v.data if isinstance(v, Tree) else v for v in trees)
    found = _whole((), policy, base, live, staging)
    if found is not None:
        yield found


def _whole(path: Path, policy: Policy, base: Any, live: Any, staging: Any) -> FieldMerge | None:
    def said(standing: Standing, result: Any) -> FieldMerge:
        return FieldMerge(path, policy, base, live, staging, standing, result)

    if same(live, staging):
        return None if same(base, live) else said(Standing.SETTLED, live)
    if policy is Policy.SET and isinstance(live, list) and isinstance(staging, list):
        result = merge_sets(base if isinstance(base, list) else [], live, staging)
        if result == live:
            return said(Standing.KEPT, live)
        return said(Standing.HOMEWARD if result == staging or same(base, live) else Standing.BLENDED, result)
    if same(base, live):
        return said(Standing.HOMEWARD, staging)
    if same(base, staging):
        return said(Standing.KEPT, live)
    if policy is Policy.NEWEST and isinstance(live, str | int | float) and type(live) is type(staging):
        return said(Standing.BLENDED, max(live, staging))
    if policy is Policy.TEXT and all(isinstance(v, str) for v in (base, live, staging)):
        text = merge_text(base, live, staging)
        if text is not None:
            return said(Standing.KEPT if text == live else Standing.HOMEWARD if text == staging else Standing.BLENDED,
                        text)
    return said(Standing.CLASH, live)


def same(one: Any, other: Any) -> bool:
    """Equal, and of one type: 1, 1.0 and True are three values here, at any depth."""
    if type(one) is not type(other):
        return False
    if isinstance(one, Tree):
        return same(one.data, other.data)
    if isinstance(one, dict):
        return list(one) == list(other) and all(same(v, other[k]) for k, v in one.items())
    if isinstance(one, list):
        return len(one) == len(other) and all(map(same, one, other))
    return bool(one == other)


def _structure(path: Path, base: Any, live: Any, staging: Any, paths: Mapping[Path, Policy]) -> Iterator[FieldMerge]:
    policy = paths.get(path, Policy.PLAIN)
    if policy in (Policy.LOCAL, Policy.VOLATILE, Policy.DERIVED):
        return
    base, live, staging = (v.data if isinstance(v, Tree) else v for v in (base, live, staging))
    if live == [] and isinstance(staging, dict):
        live = {}  # PHP writes an empty map and an empty list alike
    elif staging == [] and isinstance(live, dict):
        staging = {}
    if isinstance(live, dict) and isinstance(staging, dict):
        base = base if isinstance(base, dict) else {}
        for key in dict.fromkeys([*base, *live, *staging]):
            yield from _structure((*path, str(key)), base.get(key, ABSENT), live.get(key, ABSENT),
                                  staging.get(key, ABSENT), paths)
        return
    if all(isinstance(v, list) for v in (base, live, staging)) and policy is not Policy.SET:
        found = _sequence(path, policy, base, live, staging)
    else:
        found = _whole(path, policy, base, live, staging)
    if found is not None:
        yield found


def _sequence(path: Path, policy: Policy, base: list[Any], live: list[Any], staging: list[Any]) -> FieldMerge | None:
    """An ordered list, such as a menu's entries: what each side added, moved or changed in it, in its place."""
    found = _whole(path, policy, base, live, staging)
    if found is None or found.standing is not Standing.CLASH:
        return found
    result = merge_lists(base, live, staging)
    if result is None:
        return found
    standing = (Standing.KEPT if same(result, live) else Standing.HOMEWARD if same(result, staging) else
                Standing.BLENDED)
    return replace(found, standing=standing, result=result)


def merge_lists(base: list[Any], live: list[Any], staging: list[Any]) -> list[Any] | None:
    """The list with both sides' changes; None when both changed one entry differently. Entries that both sides added
    in one place all stay, live's first. Works like `merge_text`, on entries."""
    def merged(a: list[Any], b: list[Any], c: list[Any]) -> list[Any] | None:
        if not a:  # both sides added here
            return [*b, *(v for v in c if not any(same(v, w) for w in b))]
        if len(b) < len(a) or len(c) < len(a):
            return None
        # The entries that were there are each a value of their own; what follows them was added.
        result = []
        for old, mine, theirs in zip(a, b, c, strict=False):
            one = _entry(old, mine, theirs)
            if one is ABSENT:
                return None
            result.append(one)
        return result + (merged([], b[len(a):], c[len(a):]) or [])

    units = [[repr(_plain(v)) for v in part] for part in (base, live, staging)]
    return _in_stretches(base, live, staging, units, merged)


def _entry(base: Any, live: Any, staging: Any) -> Any:
    """One entry of a list with both sides' changes; ABSENT when they meet."""
    result = live
    for m in _structure((), base, live, staging, {}):
        if m.standing is Standing.CLASH:
            return ABSENT
        if m.standing in (Standing.HOMEWARD, Standing.BLENDED):
            result = put(result, m.path, m.result, ABSENT)
    return result


def _plain(value: Any) -> Any:
    """A value without the ways in which structures inside it are written."""
    if isinstance(value, Tree):
        return _plain(value.data)
    if isinstance(value, dict):
        return {k: _plain(v) for k, v in value.items()}
    return [_plain(v) for v in value] if isinstance(value, list) else value


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
    result = _in_stretches(a, b, c, [a, b, c], lambda *_: None)
    return None if result is None else "".join(result)


T = TypeVar("T")


def _in_stretches(a: list[T], b: list[T], c: list[T], units: list[list[str]],
                  meeting: Callable[[list[T], list[T], list[T]], list[T] | None]) -> list[T] | None:
    """Three versions of a sequence merged stretch by stretch. units: what tells the entries of each apart. meeting:
    gives a stretch that both sides changed, or None when it cannot be merged."""
    in_live, in_staging = _matches(units[0], units[1]), _matches(units[0], units[2])
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
            found = meeting(a[at[0]:to[0]], live, staging)
            if found is None:
                return False
            result.extend(found)
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


def _matches(one: list[str], other: list[str]) -> dict[int, int]:
    """Which unit of `one` is which of `other`."""
    found = {}
    for block in SequenceMatcher(None, one, other, autojunk=False).get_matching_blocks():
        for n in range(block.size):
            found[block.a + n] = block.b + n
    return found
