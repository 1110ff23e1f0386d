"""MariaDB and MySQL behind the protocol: reflection and digests by the server, rows through the driver's own cursor.

Values travel as the server writes them: numbers as int, text as str, everything binary as bytes, and whatever else
(dates, zero dates among them, decimals, times) as the server's own text, so that nothing is lost on the way.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from nostos.core.database.outline import Outline
from nostos.core.database.protocol import Database, EngineCaution, InsideCopy
from nostos.core.database.schema import Table
from nostos.core.engines.mysql import build
from nostos.core.engines.mysql.cautions import cautions
from nostos.core.engines.mysql.server_copy import MysqlInsideCopy
from nostos.core.engines.mysql.session import same_server
from nostos.core.engines.mysql.writing import MysqlWriting


class MysqlDatabase(MysqlWriting):
    """One database of a server, seen through a table prefix."""

    def copy_inside(self, source: Database, tables: Sequence[Table],
                    replaced: Sequence[tuple[str, str]] = (), seed: int | None = None, quick: bool = False
                    ) -> InsideCopy | None:
        if not isinstance(source, MysqlDatabase) or not same_server(self, source):
            return None
        return MysqlInsideCopy(self, source, tables, replaced, seed, quick)

    def outline(self) -> Outline:
        return build.outline(self)

    def build(self, outline: Outline) -> None:
        build.build(self, outline)

    def finish(self, outline: Outline) -> None:
        build.finish(self, outline)

    def warnings(self) -> Iterator[EngineCaution]:
        yield from cautions(self)
