"""A row that an operation writes, before and after."""

from __future__ import annotations

from nostos.core.database.schema import Key, Row
from nostos.core.records import dataclass


@dataclass(frozen=True)
class RowChange:
    """A row before and after; None where there was none, or is none. For taking it back."""

    table: str
    key: Key
    before: Row | None
    after: Row | None
