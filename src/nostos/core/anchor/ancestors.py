"""What a comparison asks of the state that both sides come from, whatever keeps it."""

from __future__ import annotations

from typing import Protocol

from nostos.core.database.schema import Key, Row


class Ancestors(Protocol):
    """An anchor, or what stands for one where there is none, as for an undo or a backup."""

    def base_row(self, table: str, key: Key) -> Row | None:
        """The common ancestor of a row, by live's key; None where there is none."""

    def below(self, folder: str) -> int:
        """How many files were below a folder."""
