"""Finishing or taking back what a crash interrupted, from the journal and the marker in the target's database.

Before the database's commit everything goes back; after it everything goes forward. Each step looks at what is there,
so recovering can itself be cut short and run again. Only the site that was being written is needed for it.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

from nostos.core.anchor.copy_words import speak
from nostos.core.anchor.names import Side
from nostos.core.anchor.store import Anchor
from nostos.core.apply.files.switch import Switch
from nostos.core.apply.notes import AnchorNotes
from nostos.core.apply.rows.loose import put_back
from nostos.core.apply.schema import TakenStep, take_back_schema
from nostos.core.backup import restore as restoring
from nostos.core.clone.exact_copy import clear_copies
from nostos.core.clone.remove import remove
from nostos.core.database.marker import marked
from nostos.core.database.protocol import Database
from nostos.core.database.registry import MadePlace
from nostos.core.database.schema import NAMED
from nostos.core.errors import LockHeld, NostosError, NoSuchDatabase, SiteError, VoyageError
from nostos.core.files.entry import NO_FILES
from nostos.core.files.trees import tree_at
from nostos.core.hosts.far_path import host_of, on_host, written
from nostos.core.records import dataclass
from nostos.core.sites.lock import clear_half, holding, marks
from nostos.core.sites.recognise import Site, recognise
from nostos.core.voyages import journal as journals
from nostos.core.voyages import kept
from nostos.core.voyages.home import Home, Voyage, VoyageState


@dataclass(frozen=True)
class RecoveryResult:
    """What was recovered: which operation of a voyage, and how it ended: "finished", "taken back", "removed", or "given
    up" (it was at work on a staging copy that is gone). verb: what it was; when: its start, ISO 8601. carried: paths
    of what live itself had written meanwhile into a folder that was switched; it was kept. stays: schema steps that
    could not be taken back without cutting what came since.
    """

    voyage: str
    operation: str
    ended: str
    verb: str = ""
    when: str = ""
    carried: tuple[str, ...] = ()
    stays: tuple[str, ...] = ()


def recover(home: Home, name: str | None = None) -> list[RecoveryResult]:
    """Finish or take back whatever is unfinished, of one voyage or of all. Raises NostosError when the site that was
    being written, or its database, cannot be used; then nothing was changed, and it can be run again."""
    results: list[RecoveryResult] = []
    for voyage in [home.read(n) for n in ([name] if name else home.names())]:
        with home.lock(voyage.name):
            results += _of_voyage(home, voyage)
    for folder in journals.unfinished(home.path, "restores") if name is None else ():
        begun = _plan(folder)
        carried: tuple[str, ...] = ()
        if begun.get("detached"):
            work = _Recovery(recognise(begun["detached"]), folder, None, None)
            ended, carried = work.run(), work.carried
        else:
            ended = restoring.recover(folder)
        results.append(RecoveryResult("", f"restore {folder.name}", ended, "restore", begun.get("at", ""), carried))
    if name is None:
        results += [RecoveryResult("", f"rehearsal {number}", "removed", "rehearse") for number in clear_copies(home)]
    _clear_marks(home)
    return results


def _of_voyage(home: Home, voyage: Voyage) -> list[RecoveryResult]:
    if voyage.state is not VoyageState.READY:
        left = remove(home, voyage)
        if left:
            raise NostosError(f"The unfinished clone of voyage {voyage.name} could not be removed: {'; '.join(left)}.",
                              left="Live was not touched.", next_step="Remove that by hand, then recover again.")
        return [RecoveryResult(voyage.name, "clone", "removed", "clone", voyage.since)]
    return [_operation(home, voyage, folder) for folder in journals.unfinished(home.folder(voyage.name))]


def _operation(home: Home, voyage: Voyage, folder: Path) -> RecoveryResult:
    begun = _plan(folder)
    verb = "undo" if begun.get("undoes") else "merge" if begun.get("toward") == "live" else "refresh"
    ids = (voyage.name, folder.name)
    toward = Side(begun.get("toward", "live"))
    try:
        target = recognise(voyage.live if toward is Side.LIVE else voyage.staging)
    except SiteError as error:
        if toward is Side.STAGING and (isinstance(error, NoSuchDatabase) or _is_gone(voyage)):
            with journals.opened(folder) as journal:
                journal.write(journals.Step.TAKEN_BACK, why="staging is gone")
            return RecoveryResult(*ids, "given up", verb, begun.get("at", ""))
        raise
    source = None
    with suppress(NostosError):
        source = recognise(voyage.staging if toward is Side.LIVE else voyage.live)
    anchor = None
    with suppress(VoyageError):  # without it, live is finished all the same
        anchor = Anchor(home.folder(voyage.name) / "anchor.db")
    try:
        staging = target if toward is Side.STAGING else source
        if anchor is not None and staging is not None:
            speak(anchor, target if toward is Side.LIVE else source, staging)
        if anchor is not None and toward is Side.LIVE:
            target.files.followed = {**target.files.followed, **(anchor.fact("followed") or {})}
        work = _Recovery(target, folder, anchor, source)
        return RecoveryResult(*ids, work.run(), verb, begun.get("at", ""), work.carried, work.stays)
    finally:
        if anchor is not None:
            anchor.close()


def _is_gone(voyage: Voyage) -> bool:
    """Whether a staging copy's folder is gone, or its database's file."""
    into = written(voyage.staging)
    return not into.exists() or (voyage.made == MadePlace.FILE and not on_host(host_of(into), voyage.place).exists())


def _clear_marks(home: Home) -> None:
    """Take away the marks of operations that ended, where a crash came between."""
    ended = {f.name for place in (home.path / "voyages").glob("*/merges/*/") for f in (place,) if journals.ended(f)}
    ended |= {f.name for f in (home.path / "restores").glob("*/") if journals.ended(f)}
    for site in _sites(home):
        with suppress(NostosError, OSError, LockHeld):
            clear_half(site)
            for mark in marks(site):
                if mark.operation in ended:
                    with holding(site, recovering=mark.operation) as hold:
                        hold.end(mark.operation)


def _sites(home: Home) -> Iterator[Site]:
    places = {w for n in home.names() for v in (home.read(n),) for w in (v.live, v.staging)}
    places |= {str(p.get("site") or p.get("detached")) for f in (home.path / "restores").glob("*/")
               for p in (_plan(f),) if p.get("site") or p.get("detached")}
    for place in sorted(places):
        with suppress(NostosError):
            yield recognise(place)


def _plan(folder: Path) -> dict[str, Any]:
    return next((line for line in journals.read(folder) if line["step"] == journals.Step.PLAN), {})


class _Recovery:
    """target: the site that was being written. anchor: None where there is none, or it is gone. source: the other site,
    as far as there is one."""

    def __init__(self, target: Site, folder: Path, anchor: Anchor | None, source: Site | None) -> None:
        self.target = target
        self.folder = folder
        self.anchor = anchor
        self.carried: tuple[str, ...] = ()
        self.stays: tuple[str, ...] = ()
        self.steps: dict[str, dict[str, Any]] = {}
        self.schema: list[TakenStep] = []
        self.loose: list[str] = []
        for line in journals.read(folder):
            self.steps[line["step"]] = line
            if line["step"] == journals.Step.SCHEMA:
                self.schema.append(TakenStep.of(line["change"]))
            elif line["step"] == journals.Step.LOOSE:
                self.loose.append(line["rows"])
        undoes = self.steps.get(journals.Step.PLAN, {}).get("undoes")
        self.toward = Side(self.steps.get(journals.Step.PLAN, {}).get("toward", "live"))
        target.files.called = dict(self.steps.get(journals.Step.PLAN, {}).get("called") or {})
        nowhere = tree_at(folder / NO_FILES)
        self.source_files = (tree_at(kept.place_of(folder.parent / undoes)) if undoes
                             else source.files if source else nowhere)

    def run(self) -> str:
        """Returns how it ended."""
        with holding(self.target, recovering=self.folder.name) as hold:
            ended = self._run()
            hold.end(self.folder.name)
            return ended

    def _run(self) -> str:
        with journals.opened(self.folder) as journal:
            database = self.target.open()
            try:
                switch = None
                if journals.Step.STAGING in self.steps:
                    switch = Switch.recorded(
                        self.target.files, self.source_files, self.folder.name, self.toward,
                        self.steps[journals.Step.STAGING]["switch"],
                        self.folder / journals.KEPT, self.steps.get(journals.Step.STAGED, {}).get("fresh", {}))
                if journals.Step.COMMITTED in self.steps or marked(database, self.folder.name):
                    if switch is not None:
                        switch.forward()
                        switch.tidy()
                    self._drop(database, journal)
                    if self.anchor is not None and not self.steps.get(journals.Step.PLAN, {}).get("detached"):
                        AnchorNotes.read(self.folder).carry_out(self.anchor, self.folder.name, self.target.files,
                                                                self.source_files)
                    ended = journals.Step.SETTLED, "finished"
                else:
                    if switch is not None:
                        switch.back(journals.Step.STAGED in self.steps)
                    self.stays = (*put_back(self.loose, database), *take_back_schema(self.schema, database))
                    ended = journals.Step.TAKEN_BACK, "taken back"
                self.carried = tuple(switch.carried) if switch is not None else ()
                journal.write(ended[0], recovered=True, carried=self.carried)
                if ended[0] is journals.Step.TAKEN_BACK:
                    with suppress(OSError, NostosError):  # it goes when the journal does
                        kept.let_go(self.folder)
                return ended[1]
            finally:
                database.close()

    def _drop(self, database: Database, journal: journals.Journal) -> None:
        tables = database.tables()
        for step in self._steps("drop"):
            table = tables.get(step["table"])
            what, name = step["what"], step["name"]
            exists = table is not None and (
                what == "table" or (what == "column" and table.column(name) is not None)
                or (what in NAMED and name in table.named(what)))
            if table is not None and exists:
                if what not in NAMED:
                    columns = table.stored if what == "table" else (*table.key, name)
                    journal.keep_rows(f"{what}-{table.name}-{name}", columns, database.scan(table, columns))
                database.drop(what, table.name, name)

    def _steps(self, action: str) -> list[dict[str, Any]]:
        operations = self.steps.get(journals.Step.PLAN, {}).get("operations", [])
        return [o["step"] for o in operations if o["operation"] == "SchemaOperation" and o["step"]["action"] == action]
