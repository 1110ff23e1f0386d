"""Three-way merging of single fields. Nothing here knows of tables, files or sides' ids: values are portable."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from enum import StrEnum
from typing import Any

from nostos.core.profiles.policies import PLAIN, Policy
from nostos.core.records import dataclass
from nostos.core.values.merging import ABSENT, in_stretches, same
from nostos.core.values.structures import Path, StructuredValue, put

_IDS = ("id", "uid", "uuid", "_id", "key")  # how entries of lists name themselves


class Role(StrEnum):
    """What a side is in a comparison: a merge writes live from staging, a refresh staging from live."""

    TARGET = "target"
    SOURCE = "source"


class Standing(StrEnum):
    """How a field, or an item, stands (design, section 2)."""

    HOMEWARD = "homeward"
    KEPT = "kept"
    BLENDED = "blended"
    CLASH = "clash"
    SETTLED = "settled"
    OPEN = "open"  # of an item: a question first


@dataclass(frozen=True, slots=True)
class FieldMerge:
    """One field that is not the same everywhere: its path inside a structured value (empty: the whole value), the
    three values, how it stands, and what the target has when it is taken. decided: for which of the two, where
    it was a clash."""

    path: Path
    policy: Policy
    base: Any
    target: Any
    source: Any
    standing: Standing
    result: Any
    decided: Role | None = None


def merge(policy: Policy, base: Any, live: Any, staging: Any,
          paths: Mapping[Path, Policy] | None = None) -> Iterator[FieldMerge]:
    """What changed between three values of a field; nothing where nothing did.

    A structure yields one result for each key that changed, however deep. paths: policies of single keys inside it.
    """
    trees = (base, live, staging)
    if policy.keyed and any(isinstance(v, StructuredValue) for v in trees) and not any(
            v.rigid for v in trees if isinstance(v, StructuredValue)):
        yield from _structure((), *trees, paths or {})
        return
    if policy.unordered:
        base, live, staging = (v.data if isinstance(v, StructuredValue) else v for v in trees)
    result = _whole((), policy, base, live, staging)
    if result is not None:
        yield result


def _whole(path: Path, policy: Policy, base: Any, live: Any, staging: Any) -> FieldMerge | None:
    def stands(standing: Standing, result: Any) -> FieldMerge:
        return FieldMerge(path, policy, base, live, staging, standing, result)

    if same(live, staging):
        return None if same(base, live) else stands(Standing.SETTLED, live)
    merged = policy.merge(base, live, staging) if policy.unordered else ABSENT
    if merged is not ABSENT:
        if same(merged, live):
            return stands(Standing.KEPT, live)
        one = same(merged, staging) or same(base, live)
        return stands(Standing.HOMEWARD if one else Standing.BLENDED, merged)
    if same(base, live):
        return stands(Standing.HOMEWARD, staging)
    if same(base, staging):
        return stands(Standing.KEPT, live)
    merged = policy.merge(base, live, staging)
    if merged is ABSENT:
        return stands(Standing.CLASH, live)
    if policy.quiet:
        return stands(Standing.BLENDED, merged)
    return stands(Standing.KEPT if merged == live else Standing.HOMEWARD if merged == staging else Standing.BLENDED,
                  merged)


def _structure(path: Path, base: Any, live: Any, staging: Any, paths: Mapping[Path, Policy]) -> Iterator[FieldMerge]:
    policy = paths.get(path, PLAIN)
    if not policy.compared:
        return
    # A single value, in no map and no list, keeps the way in which it is written.
    base, live, staging = (v.data if isinstance(v, StructuredValue) and not v.rigid and isinstance(
        v.data, dict | list) else v for v in (base, live, staging))
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
    if all(isinstance(v, list) for v in (base, live, staging)) and not policy.unordered:
        result = _sequence(path, policy, base, live, staging)
    else:
        result = _whole(path, policy, base, live, staging)
    if result is not None:
        yield result


def _sequence(path: Path, policy: Policy, base: list[Any], live: list[Any], staging: list[Any]) -> FieldMerge | None:
    """An ordered list, such as a menu's entries: what each side added, moved or changed in it, in its place."""
    merged_whole = _whole(path, policy, base, live, staging)
    if merged_whole is None or merged_whole.standing is not Standing.CLASH:
        return merged_whole
    result = merge_entries(base, live, staging)
    if result is None:
        result = merge_lists(base, live, staging)
    if result is None:
        return merged_whole
    standing = (Standing.KEPT if same(result, live) else Standing.HOMEWARD if same(result, staging) else
                Standing.BLENDED)
    return replace(merged_whole, standing=standing, result=result)


def merge_entries(base: list[Any], live: list[Any], staging: list[Any]) -> list[Any] | None:
    """The list with both sides' changes, where its entries carry ids of their own: entry by entry, wherever they stand.
    None where they do not, or where both sides changed one entry differently."""
    name = next((n for n in _IDS if all(isinstance(e, dict) and isinstance(e.get(n), str | int) and e[n] not in (
        "", 0) for e in (*base, *live, *staging))), None)
    sides = [{e[name]: e for e in part} for part in (base, live, staging)] if name else []
    if not sides or any(len(s) != len(part) for s, part in zip(sides, (base, live, staging), strict=True)):
        return None
    was, mine, theirs = sides
    merged: dict[Any, Any] = {}
    for key in {**was, **mine, **theirs}:
        old, one, other = (s.get(key, ABSENT) for s in sides)
        if ABSENT in (one, other) and key in was:
            left = one if other is ABSENT else other
            if left is not ABSENT and not same(left, old):
                return None  # removed on one side, changed on the other
            continue
        entry = one if other is ABSENT else other if one is ABSENT else _entry(
            old if old is not ABSENT else {}, one, other)
        if entry is ABSENT:
            return None
        merged[key] = entry
    order = merge_lists(list(was), list(mine), list(theirs)) or [*mine, *(k for k in theirs if k not in mine)]
    return [merged[key] for key in dict.fromkeys([*order, *merged]) if key in merged]


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
    return in_stretches(base, live, staging, units, merged)


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
    if isinstance(value, StructuredValue):
        return _plain(value.data)
    if isinstance(value, dict):
        return {k: _plain(v) for k, v in value.items()}
    return [_plain(v) for v in value] if isinstance(value, list) else value
