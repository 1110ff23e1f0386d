"""Tokens for ids: a neutral name for the row that an id points at; and for what a value takes over from another row's.

Whether the id was written as a number (r) or as text (R) is part of the token, so that it is written back alike. A
value that begins with another row's, as a place in a tree does with the one above it, is a token for that beginning (t)
and the rest.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from nostos.core.expressions import expression
from nostos.core.records import dataclass
from nostos.core.values.structures import StructuredValue
from nostos.core.values.tokens import CLOSE, OPEN

_TOKEN = expression(f"{OPEN}([rR]):([^{OPEN}{CLOSE}]*):([0-9a-z-]+){CLOSE}")
_ABOVE = expression(f"{OPEN}t:([^:{OPEN}{CLOSE}]*):([^{OPEN}{CLOSE}]*):([0-9a-z-]*){CLOSE}")

Named = tuple[str, str]  # (table, canonical name of the row)


def token(table: str, name: str, textual: bool) -> str:
    """The token that stands for a row, by its table and name."""
    return f"{OPEN}{'R' if textual else 'r'}:{table}:{name}{CLOSE}"


def number(value: Any) -> Named | None:
    """The row that a value names, when it is one token that stands for a number."""
    if isinstance(value, str) and value.startswith(OPEN):
        match = _TOKEN.fullmatch(value)
        if match and match.group(1) == "r":
            return match.group(2), match.group(3)
    return None


def above(table: str, column: str, name: str) -> str:
    """What a value takes over from the same column of another row; of none, where it begins by itself (name empty)."""
    return f"{OPEN}t:{column}:{table}:{name}{CLOSE}"


@dataclass(frozen=True)
class Begun:
    """A value that begins with that of a row above; name: empty where there is none above."""

    table: str
    column: str
    name: str
    rest: str

    def text(self) -> str:
        """The portable value: the token of the row above, and the rest."""
        return above(self.table, self.column, self.name) + self.rest


def begun(value: Any) -> Begun | None:
    """A value in portable form that begins with another row's; None where it does not."""
    match = _ABOVE.match(value) if isinstance(value, str) and value.startswith(OPEN) else None
    return Begun(match.group(2), match.group(1), match.group(3), value[match.end():]) if match else None


def inside(value: Any) -> Iterator[Named]:
    """Every row named by tokens in a text or a structure."""
    if isinstance(value, str):
        if OPEN in value:
            up = begun(value)
            if up is not None and up.name:
                yield up.table, up.name
            for match in _TOKEN.finditer(value):
                yield match.group(2), match.group(3)
    elif isinstance(value, StructuredValue):
        yield from inside(value.data)
    elif isinstance(value, dict):
        for key, part in value.items():
            yield from inside(key)
            yield from inside(part)
    elif isinstance(value, list | tuple):
        for part in value:
            yield from inside(part)


def write(text: str, key: Callable[[str, str], str]) -> str:
    """The text with every token replaced by what `key(table, name)` gives."""
    if OPEN not in text:
        return text
    return _TOKEN.sub(lambda m: key(m.group(2), m.group(3)), text)
