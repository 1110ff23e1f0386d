"""Regular expressions that are compiled when they are first used: a start uses few of them."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Any, AnyStr, cast

if TYPE_CHECKING:
    from re import Pattern


class _Expression:
    """Stands for a compiled expression. What is asked of it is looked up there once, and then stands here."""

    def __init__(self, text: Any, flags: int) -> None:
        self._written = text, flags

    def __getattr__(self, name: str) -> Any:
        value = getattr(re.compile(*self._written), name)
        setattr(self, name, value)
        return value


def expression(text: AnyStr, flags: int = 0) -> Pattern[AnyStr]:
    """As `re.compile`, later. An expression that is wrong raises re.error where it is first used."""
    return cast("Pattern[AnyStr]", _Expression(text, flags))
