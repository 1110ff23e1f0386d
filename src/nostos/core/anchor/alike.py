"""Definitions that two servers, or one, write otherwise though they were made of one another."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from nostos.core.database.schema import Table, definitions
from nostos.core.records import dataclass

ALIKE = "alike"  # the fact that says which definitions are one, by their places: see `Alike`


@dataclass(frozen=True)
class Alike:
    """How a server writes, on live and in staging, what is defined alike on both: one may put a definition into other
    words when it takes it in again."""

    live: str
    staging: str


def alike(live: Mapping[str, Table], staging: Mapping[str, Table], places: Collection[str] | None = None
          ) -> dict[str, list[str]]:
    """What two sides write otherwise though it was made of the other's: `[live's words, staging's]` by its place.
    places: those that this is known of; None: all."""
    known = {place: definition for table in staging.values() for place, definition in definitions(table).items()}
    return {place: [definition, known[place]] for table in live.values() for place,
            definition in definitions(table).items()
            if place in known and known[place] != definition and (places is None or place in places)}
