"""Taking a merge back later, keeping what live gained since.

An undo is itself a merge of three versions: what the merge left is the ancestor, what was there before it is what comes
back, and live as it is now is live. So whatever live changed since stays, and what it has built upon is not removed.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import msgspec

from nostos.core.anchor.names import Side
from nostos.core.anchor.open_voyage import Crew
from nostos.core.compare.file_changes import FileState
from nostos.core.database.protocol import explaining
from nostos.core.errors import VoyageError
from nostos.core.files.entry import FileEntry
from nostos.core.plan.operations import plan
from nostos.core.plan.prepared import PreparedMerge
from nostos.core.plan.selection import Choice, choose
from nostos.core.plan.stored import compare_stored
from nostos.core.records import dataclass
from nostos.core.voyages import journal as journals
from nostos.core.voyages.home import Home


@dataclass(frozen=True)
class PastOperation:
    """An operation that reached live: its id, "merge" or "undo", when, and which one it took back (empty: none)."""

    id: str
    verb: str
    when: str
    undoes: str = ""


def done(home: Home, voyage: str) -> list[PastOperation]:
    """The merges and undos of a voyage that reached live, oldest first."""
    merges = []
    for folder in sorted((home.folder(voyage) / "merges").glob("*/")):
        steps = {line["step"]: line for line in journals.read(folder)}
        begun = steps.get(journals.Step.PLAN)
        if begun and journals.Step.SETTLED in steps and begun.get("toward") == "live" and (
                folder / journals.UNDO).is_file():
            undoes = begun.get("undoes") or ""
            merges.append(PastOperation(folder.name, "undo" if undoes else "merge", begun["at"], undoes))
    return merges


def undone(every: Iterable[PastOperation]) -> set[str]:
    """The ids of what is taken back: what an undo names that was not taken back itself."""
    ids: set[str] = set()
    for d in reversed(list(every)):
        if d.undoes and d.id not in ids:
            ids.add(d.undoes)
    return ids


def to_take_back(home: Home, voyage: str, name: str | None) -> PastOperation:
    """The named operation, or the last merge that was not taken back. Raises VoyageError when there is none."""
    every = done(home, voyage)
    gone = undone(every)
    if name is None:
        open_ones = [d for d in every if d.verb == "merge" and d.id not in gone]
        if not open_ones:
            raise VoyageError(f"Voyage {voyage} has no merge to take back.", next_step="`nostos history` lists them.")
        return open_ones[-1]
    merge = next((d for d in every if d.id == name), None)
    if merge is None:
        names = ", ".join(d.id for d in every) or "none"
        raise VoyageError(f"Voyage {voyage} has no merge {name}.", next_step=f"There are: {names}.")
    if merge.id in gone:
        raise VoyageError(f"{name} was taken back already.",
                          next_step="To have it again, take back the undo, by its id.")
    return merge


def prepare_undo(home: Home, crew: Crew, which: PastOperation, choice: Choice | None = None,
                 schema: bool = False) -> PreparedMerge:
    """Work out how to take an operation back on live as it is now. schema: tables, columns and indexes that it added go
    too, where nothing but its own is in them; constraints go in any case. Changes nothing. Raises VoyageError or
    SelectionError."""
    folder = home.folder(crew.voyage.name) / "merges" / which.id
    data = journals.undo_of(folder)
    choice = choice or Choice(everyone=True)
    database = crew.live.open(readonly=True)
    try:
        with explaining(database), database.reading():
            files = [_file(crew, f) for f in data["files"]]
            comparison, needs = compare_stored(crew.live, database, data["rows"], files, data.get("schema", []), schema,
                                               crew.layers(database))
            selection = choose(comparison, needs, choice)
            return PreparedMerge(comparison, needs, plan(comparison, needs, selection), choice, Side.LIVE, choice,
                            dict(comparison.items), which.id,
                            lambda: prepare_undo(home, crew, which, choice, schema))
    finally:
        database.close()


def _file(crew: Crew, entry: dict[str, Any]) -> FileState:
    after, before = (msgspec.convert(entry[k], FileEntry | None) for k in ("after", "before"))
    now = crew.live.files.entry(entry["path"], digest=True)
    return FileState(entry["path"], after, now, before)
