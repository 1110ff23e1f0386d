"""Numbers in markup, each with what is around it that says what it is.

In the attributes of tags (`<embed embedtype="image" id="7">`), of shortcodes (`[gallery ids="7,9"]`) and of comments
that hold an object (`<!-- block {"id":7} -->`), in names that end in one (`class="picture-7"`), in addresses (`?p=7`),
and at the beginning of a text (`7-draft`). As the step of a place, an attribute is `@name`, then `@` and what says its
kind.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

# What follows an attribute's name: a number, or a list of them.
VALUE = r"[\"']?\s*[=:]\s*[\"'\[]?([1-9]\d*(?:\s*,\s*[1-9]\d*)*)(?![\w.%-])"
HEAD = "@^"  # the number that a text begins with
_PART = re.compile(r"(?P<comment><!--\s*(?P<block>[a-z][\w:./-]*)\s+\{[^>]*?\}\s*/?-->)|(?P<tag><[A-Za-z][^<>]*>)"
                   r"|(?P<short>\[(?P<name>[A-Za-z][\w-]*)\s[^\[\]]*\])")
_ATTRIBUTE = re.compile(rf"([A-Za-z_][\w:-]*){VALUE}")
_SAYS_KIND = re.compile(r"""(?i)(?<![\w:-])((?:[a-z]+[-_]?)?(?:type|kind))\s*=\s*["']([a-z][\w.-]{0,39})["']""")
_SAYS_KIND_INSIDE = re.compile(r'"(?:kind|type)"\s*:\s*"([a-z][\w-]{0,39})"')
_CLASSES = re.compile(r"""(?i)\s(?:class|rel|id)\s*=\s*["']([^"']*)["']""")
_NUMBERED = re.compile(r"(?<![\w-])([A-Za-z][A-Za-z0-9_]*(?:-[A-Za-z][A-Za-z0-9_]*)*)-([1-9]\d*)(?![\w-])")
_HEAD = re.compile(r"([1-9]\d*)-\w")


def attributes(text: str) -> Iterator[tuple[str, str]]:
    """The numbers in a text, each as a step of a place, and its value."""
    head = _HEAD.match(text)
    if head is not None:
        yield HEAD, head.group(1)
    done = 0
    for part in _PART.finditer(text):
        yield from _found(text[done:part.start()], "")
        if part["comment"]:
            said = _SAYS_KIND_INSIDE.search(part["comment"])
            block = "!" + part["block"].replace("/", ".")
            yield from _found(part["comment"], f"@{block}={said.group(1)}" if said else f"@{block}")
        elif part["short"]:
            yield from _found(part["short"], f"@[{part['name']}")
        else:
            kind = _SAYS_KIND.search(part["tag"])
            yield from _found(part["tag"], f"@{kind.group(1)}={kind.group(2)}" if kind else "")
            for classes in _CLASSES.finditer(part["tag"]):
                yield from ((f"@{m.group(1)}-", m.group(2)) for m in _NUMBERED.finditer(classes.group(1)))
        done = part.end()
    yield from _found(text[done:], "")


def _found(text: str, kind: str) -> Iterator[tuple[str, str]]:
    for match in _ATTRIBUTE.finditer(text):
        yield f"@{match.group(1)}{kind}", match.group(2)


def pattern(step: str) -> str:
    """The pattern that finds the values of such a step; its one group is the value."""
    if step == HEAD:
        return r"^([1-9]\d*)(?=-\w)"
    name, _, said = step[1:].partition("@")
    if name.endswith("-"):
        return rf"(?<![\w-]){re.escape(name)}([1-9]\d*)(?![\w-])"
    own = rf"(?<![\w:-]){re.escape(name)}{VALUE}"
    kind, _, value = said.partition("=")
    if not kind:
        return own
    if kind.startswith("!"):
        ahead = rf'(?=[^>]*?"(?:kind|type)"\s*:\s*"{re.escape(value)}")' if value else ""
        return rf"<!--\s*{kind[1:]}\s+\{{{ahead}[^>]*?{own}"  # a point in the block's name may stand for a slash
    if kind.startswith("["):
        return rf"\[{re.escape(kind[1:])}\s[^\[\]]*?{own}"
    return rf"""<(?=[^<>]*?(?<![\w:-]){re.escape(kind)}\s*=\s*["']{re.escape(value)}["'])[^<>]*?{own}"""
