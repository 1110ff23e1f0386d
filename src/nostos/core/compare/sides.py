"""Both sides of a voyage and their common ancestor, while rows are compared."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property

from nostos.core.anchor.names import Keys, Side
from nostos.core.anchor.rows import RowMove
from nostos.core.anchor.store import Anchor
from nostos.core.clone.masking import Mask
from nostos.core.compare.portable import Translator
from nostos.core.database.protocol import Database
from nostos.core.database.schema import Table
from nostos.core.profiles.model import Profile
from nostos.core.records import dataclass

Moves = Mapping[Side, dict[str, list[RowMove]]]  # what moved on a side, by table


@dataclass(frozen=True)
class Sides:
    """What is read, and by what. tables: those that are compared, by side and name. translators: into portable form,
    from each side; base: from the anchor. mask: how staging's rows are masked, if they are."""

    profile: Profile
    anchor: Anchor
    databases: Mapping[Side, Database]
    tables: Mapping[Side, Mapping[str, Table]]
    translators: Mapping[Side, Translator]
    base: Translator
    mask: Mask | None = None

    @cached_property
    def both(self) -> dict[str, Table]:
        """Every table that one of them has, as live has it where both do."""
        return {**self.tables[Side.STAGING], **self.tables[Side.LIVE]}

    @cached_property
    def keys(self) -> dict[Side, Keys]:
        """What the rows of each side are called."""
        return {side: translator.keys for side, translator in self.translators.items()}
