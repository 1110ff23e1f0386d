"""PostgreSQL behind the protocol: reflection and digests by the server, rows through the driver's own cursor."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from nostos.core.database.outline import Outline
from nostos.core.database.protocol import Database, EngineCaution, InsideCopy
from nostos.core.database.schema import Table
from nostos.core.engines.postgresql import build
from nostos.core.engines.postgresql.cautions import cautions
from nostos.core.engines.postgresql.server_copy import PostgresServerCopy
from nostos.core.engines.postgresql.writing import PostgresWriting


class PostgresDatabase(PostgresWriting):
    """One schema of a server's database."""

    def copy_inside(self, source: Database, tables: Sequence[Table],
                    replaced: Sequence[tuple[str, str]] = (), seed: int | None = None, quick: bool = False
                    ) -> InsideCopy | None:
        if not isinstance(source, PostgresDatabase):
            return None
        return PostgresServerCopy(self, source, tables, replaced, seed, quick)

    def outline(self) -> Outline:
        return build.outline(self)

    def build(self, outline: Outline) -> None:
        build.build(self, outline)

    def finish(self, outline: Outline) -> None:
        build.finish(self, outline)

    def warnings(self) -> Iterator[EngineCaution]:
        yield from cautions(self)
