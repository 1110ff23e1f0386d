"""One site's URL turned into another's inside any value: in plain text, in structures, in structures inside strings."""

from __future__ import annotations

from collections.abc import Callable, Collection
from typing import Any

from nostos.core.expressions import expression
from nostos.core.values import php, structures
from nostos.core.values.structures import StructuredValue
from nostos.core.values.tokens import escape
from nostos.core.values.urls import UrlForms

# A serialised value inside a JSON string: its quotes are escaped.
_SERIALISED_INSIDE = expression(r's:\d+:\\+"')


def opened(text: str, plain: Callable[[str], Any], broken: Callable[[str], str] = escape) -> Any:
    """A text in portable form: a Tree where it is serialised (or JSON that holds serialised values), else what `plain`
    makes of it. A serialised value that is broken stays as it is, merely escaped: `broken` says how."""
    tree = None
    if (inner := structures.from_base64(text)) is not None:
        made = opened(inner, plain, broken)
        return text if made == inner else StructuredValue(made, structures.Base64Style())
    if php.looks_serialised(text):
        tree = structures.read_serialised(text)
        if tree is None:
            return broken(text)
    elif text[:1] in ("{", "[", '"') and _SERIALISED_INSIDE.search(text):
        tree = structures.read_json(text)
    if tree is None:
        return plain(text)
    return deeper(tree, lambda _, leaf: opened(leaf, plain, broken), plain)


def deeper(tree: StructuredValue, leaf: Callable[[structures.Path, str], Any],
           key: Callable[[str], Any]) -> StructuredValue:
    """A tree with every string in it replaced by `leaf(path, string)`."""
    def one(path: structures.Path, value: Any) -> Any:
        return leaf(path, value) if isinstance(value, str) else value

    return StructuredValue(structures.change(tree.data, one, lambda _, k: key(k) if isinstance(k, str) else k),
                           tree.style)


def closed(value: Any, plain: Callable[[str], Any]) -> Any:
    """The raw value of a portable one; `plain` writes the texts in it."""
    if isinstance(value, StructuredValue):
        return StructuredValue(_closed(value.data, plain), value.style).raw()
    return plain(value) if isinstance(value, str) else value


def _closed(data: Any, plain: Callable[[str], Any]) -> Any:
    def leaf(_: structures.Path, value: Any) -> Any:
        return closed(value, plain)

    return structures.change(data, leaf, lambda _, k: plain(k) if isinstance(k, str) else k)


def rewritten(text: str, old: UrlForms, new: UrlForms, named: Collection[str] | None = None) -> str:
    """The text with every form of one base URL written as the other's. named: of the names of the old one, those that
    the text holds, where that is known."""
    # What is inside a structure is spelled in other ways than the whole.
    portable = opened(text, lambda part: old.written_for(part, new, named if part is text else None), lambda part: part)
    return portable if isinstance(portable, str) else str(closed(portable, lambda part: part))
