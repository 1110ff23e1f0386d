"""Many rows, as many at once as one statement may hold."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from nostos.core.database.schema import Value


def parts(rows: Sequence[Sequence[Value]], most: int, size: int) -> Iterator[list[Sequence[Value]]]:
    """Rows in parts of at most so many, and of about so many bytes."""
    part: list[Sequence[Value]] = []
    held = 0
    for row in rows:
        part.append(row)
        held += sum(len(v) if isinstance(v, str | bytes) else 8 for v in row)
        if held > size or len(part) == most:
            yield part
            part, held = [], 0
    if part:
        yield part
