"""What a merge would carry home that still speaks of staging: written there in a way that is not known."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress

from nostos.core.database.protocol import AT_ONCE
from nostos.core.errors import SiteError
from nostos.core.files.tree import FileTree
from nostos.core.plan.operations import InsertRow, Plan, PutFile, SwitchFolder, UpdateRow, changes_of
from nostos.core.records import dataclass
from nostos.core.sites.database_words import DatabaseWords
from nostos.core.values.traces import Traces

_LARGEST = 4 << 20  # bytes of a file that is looked through


@dataclass(frozen=True)
class Trace:
    """Where an item still speaks of staging: a column of one of its rows, or a file. said: the words."""

    item: str
    place: str
    text: str


def leftovers(planned: Plan, traces: Traces, source: FileTree, database: DatabaseWords) -> Iterator[Trace]:
    """Everything that is to be written and still speaks of the source. source: where files come from. database: the
    source's, which no file is to lead to."""
    for write in planned.of(InsertRow, UpdateRow):
        for column, value in write.values.items():
            if hits := traces.trace_in(value):
                yield Trace(write.item, f"{write.table}.{column}", hits)
    puts = [put for operation in planned.of(PutFile, SwitchFolder) for put in changes_of(operation)
            if isinstance(put, PutFile) and put.entry.kind == "file" and put.entry.size <= _LARGEST]
    for at in range(0, len(puts), AT_ONCE):
        some = puts[at:at + AT_ONCE]
        with source.looking_ahead(source.small(put.path) for put in some if put.content is None):
            yield from (Trace(put.item, put.path, hits) for put in some
                        if (hits := _said(put, traces, source, database)))


def _said(put: PutFile, traces: Traces, source: FileTree, database: DatabaseWords) -> str:
    """What a file that is to be written says of the source; empty: nothing."""
    content = put.content
    if content is None:
        with suppress(OSError, SiteError):
            content = source.read(put.path)
    if not content or b"\0" in content[:8192]:
        return ""
    named, traced = database.may_be_in(content), traces.may_be_in(content)
    text = content.decode("utf-8", "replace") if named or traced else ""
    return (database.named(text) if named else "") or (traces.trace_in(text) if traced else "")
