"""PostgreSQL behind the protocol: reflection and digests by the server, rows through the driver's own cursor."""

from __future__ import annotations

from collections.abc import Iterator

from nostos.core.database.outline import Outline
from nostos.core.database.postgresql import build
from nostos.core.database.postgresql.cautions import cautions
from nostos.core.database.postgresql.writing import PostgresWriting
from nostos.core.database.protocol import EngineCaution


class PostgresDatabase(PostgresWriting):
    """One schema of a server's database."""

    def outline(self) -> Outline:
        return build.outline(self)

    def build(self, outline: Outline) -> None:
        build.build(self, outline)

    def finish(self, outline: Outline) -> None:
        build.finish(self, outline)

    def warnings(self) -> Iterator[EngineCaution]:
        yield from cautions(self)
