"""Structured values: JSON text read as a tree, changed inside and written back in the way it was written."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import cache
from typing import Any

Path = tuple[str, ...]
_DEEPEST = 100


@dataclass(frozen=True)
class Style:
    """How a JSON text was written, as far as writing it again needs to know."""

    item: str = ","
    colon: str = ":"
    ascii_only: bool = False
    slashes: bool = False  # "/" written as "\/"
    indent: int | None = None
    tail: str = ""

    def write(self, tree: Any) -> str:
        text = json.dumps(tree, ensure_ascii=self.ascii_only, separators=(self.item, self.colon), indent=self.indent)
        return (text.replace("/", "\\/") if self.slashes else text) + self.tail


@cache
def _styles() -> tuple[Style, ...]:
    return tuple(
        Style(item, colon, ascii_only, slashes, indent)
        for item, colon, indent in ((",", ":", None), (", ", ": ", None), (",", ": ", 2), (",", ": ", 4))
        for ascii_only in (False, True)
        for slashes in (False, True))


@dataclass(frozen=True)
class Tree:
    """A structured value: equal to another when the data is, however each is written."""

    data: Any
    style: Style = field(default=Style(), compare=False)

    def text(self) -> str:
        return self.style.write(self.data)


def read(text: str) -> Tree | None:
    """The structure in a JSON text, or None: not JSON, too deep, or not to be written back byte for byte."""
    stripped = text.rstrip()
    if not stripped:
        return None
    try:
        data = json.loads(stripped, parse_constant=_refuse)
        if _depth(data) > _DEEPEST:
            return None
    except (ValueError, RecursionError):
        return None
    tail = text[len(stripped):]
    for style in _styles():
        if style.write(data) == stripped:
            return Tree(data, Style(style.item, style.colon, style.ascii_only, style.slashes, style.indent, tail))
    return None


def _refuse(name: str) -> Any:
    raise ValueError(f"{name} is not JSON")


def _depth(tree: Any) -> int:
    level, deepest = [tree], 0
    while level:
        deepest += 1
        level = [p for t in level if isinstance(t, dict | list) for p in (t.values() if isinstance(t, dict) else t)]
        if deepest > _DEEPEST:
            break
    return deepest


def fits(pattern: Path, path: Path) -> bool:
    """Whether a path fits a pattern, in which `*` stands for one step and `**` for any number."""
    if not pattern:
        return not path
    if pattern[0] == "**":
        return any(fits(pattern[1:], path[n:]) for n in range(len(path) + 1))
    return bool(path) and pattern[0] in ("*", path[0]) and fits(pattern[1:], path[1:])


def change(tree: Any, leaf: Callable[[Path, Any], Any], key: Callable[[str], str], path: Path = ()) -> Any:
    """The tree with every leaf replaced by `leaf(path, value)` and every key by `key(name)`."""
    if isinstance(tree, dict):
        return {key(k): change(v, leaf, key, (*path, k)) for k, v in tree.items()}
    if isinstance(tree, list):
        return [change(v, leaf, key, (*path, str(n))) for n, v in enumerate(tree)]
    return leaf(path, tree)


def leaves(tree: Any, path: Path = ()) -> Iterator[tuple[Path, Any]]:
    """Every leaf with its path."""
    if isinstance(tree, dict):
        for k, v in tree.items():
            yield from leaves(v, (*path, k))
    elif isinstance(tree, list):
        for n, v in enumerate(tree):
            yield from leaves(v, (*path, str(n)))
    else:
        yield path, tree


def put(tree: Any, path: Path, value: Any, missing: object) -> Any:
    """A copy of the tree with `value` at `path`; the key goes away when the value is `missing`."""
    if not path:
        return value
    data = dict(tree) if isinstance(tree, dict) else {}
    below = put(data.get(path[0], {}), path[1:], value, missing)
    if below is missing:
        data.pop(path[0], None)
    else:
        data[path[0]] = below
    return data
