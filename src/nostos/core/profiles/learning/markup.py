"""Numbers in the attributes of markup, with what their tag says that it is: `<embed embedtype="image" id="7">`."""

from __future__ import annotations

import re
from collections.abc import Iterator

# What follows an attribute's name: a number, or a list of them.
VALUE = r"[\"']?\s*[=:]\s*[\"']?([1-9]\d*(?:\s*,\s*[1-9]\d*)*)(?![\w.%-])"
_TAG = re.compile(r"<[A-Za-z][^<>]*>")
_ATTRIBUTE = re.compile(rf"([A-Za-z_][\w:-]*){VALUE}")
_SAYS_KIND = re.compile(r"""(?i)(?<![\w:-])((?:[a-z]+[-_]?)?(?:type|kind))\s*=\s*["']([a-z][\w.-]{0,39})["']""")


def attributes(text: str) -> Iterator[tuple[str, str]]:
    """The attributes in a text that hold numbers, each as a step of a place, and its value."""
    done = 0
    for tag in _TAG.finditer(text):
        yield from _found(text[done:tag.start()], "")
        kind = _SAYS_KIND.search(tag.group())
        yield from _found(tag.group(), f"@{kind.group(1)}={kind.group(2)}" if kind else "")
        done = tag.end()
    yield from _found(text[done:], "")


def _found(text: str, kind: str) -> Iterator[tuple[str, str]]:
    for match in _ATTRIBUTE.finditer(text):
        yield f"@{match.group(1)}{kind}", match.group(2)


def pattern(step: str) -> str:
    """The pattern that finds the values of such a step; its one group is the value."""
    name, _, said = step[1:].partition("@")
    kind, _, value = said.partition("=")
    own = rf"(?<![\w:-]){re.escape(name)}{VALUE}"
    if not kind:
        return own
    return rf"""<(?=[^<>]*?(?<![\w:-]){re.escape(kind)}\s*=\s*["']{re.escape(value)}["'])[^<>]*?{own}"""
