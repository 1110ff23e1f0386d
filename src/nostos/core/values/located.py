"""Every number that a value holds, with the path that leads to it: through structures, keys, base64 and texts."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from nostos.core.values import shapes, structures
from nostos.core.values.structures import Path, StructuredValue

Clean = Callable[[str], str]


def numbers(value: Any, path: Path = (), clean: Clean = str) -> Iterator[tuple[Path, int]]:
    """The numbers of a value that may be rows', each with its path: see `shapes` for the steps into texts and keys.
    clean: takes out of a text what is not to be looked at."""
    if isinstance(value, StructuredValue):
        value = value.data if isinstance(value.data, dict | list) else str(value.data)
    if isinstance(value, bool) or value is None:
        return
    if isinstance(value, int):
        if value > 0:
            yield path, value
    elif isinstance(value, str):
        yield from _in_text(value, path, clean)
    elif isinstance(value, bytes):
        yield from _in_text(structures.text_in(value) or "", path, clean)
    elif isinstance(value, dict):
        kind = structures.kind_in(value)
        for key, part in value.items():
            for step, number in _in_key(clean(key) if isinstance(key, str) else key):
                yield (*path, step), number
            yield from numbers(part, (*path, f"{key}{kind}"), clean)
    elif isinstance(value, list):
        for n, part in enumerate(value):
            yield from numbers(part, (*path, str(n)), clean)


def maps(value: Any, path: Path = ()) -> Iterator[tuple[Path, frozenset[str]]]:
    """Every map in a value, structures inside strings too: the path of what is in it, but for the last step, and its
    keys."""
    if isinstance(value, StructuredValue):
        value = value.data
    if isinstance(value, bytes):
        value = structures.text_in(value)
    if isinstance(value, str):
        value = tree.data if structures.may_be_structure(value) and (tree := structures.read(value)) else None
    if isinstance(value, dict):
        kind = structures.kind_in(value)
        yield path, frozenset(str(k) for k in value)
        for key, part in value.items():
            yield from maps(part, (*path, f"{key}{kind}"))
    elif isinstance(value, list):
        for n, part in enumerate(value):
            yield from maps(part, (*path, str(n)))


def _in_text(text: str, path: Path, clean: Clean) -> Iterator[tuple[Path, int]]:
    if text.isdecimal():
        yield from (((*path, *steps), number) for steps, number in shapes.numbers(clean(text)))
        return
    tree = structures.read(text) if structures.may_be_structure(text) else None
    if tree is not None:
        yield from numbers(tree, path, clean)
        return
    inner = structures.from_base64(text)
    if inner is not None:
        yield from _in_text(inner, path, clean)
        return
    yield from (((*path, *steps), number) for steps, number in shapes.numbers(clean(text)))


def _in_key(key: Any) -> Iterator[tuple[str, int]]:
    if isinstance(key, int) and not isinstance(key, bool):
        if key > 0:
            yield "{#}", key
    elif isinstance(key, str):
        yield from ((step, int(key[spot.start:spot.end])) for step, spot in shapes.in_key(key))
