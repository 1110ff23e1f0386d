"""Finishing or taking back what a crash interrupted, from the journal and the marker in the target's database.

Before the database's commit everything goes back; after it everything goes forward. Each step looks at what is there,
so recovering can itself be cut short and run again.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from nostos.core import merge as merging
from nostos.core.apply import journal as journals
from nostos.core.apply.commit import Committed, take_back_schema
from nostos.core.apply.marker import marked
from nostos.core.apply.settle import settle
from nostos.core.apply.switch import Switch
from nostos.core.backup import restore as restoring
from nostos.core.backup.things import detached
from nostos.core.busy import holding
from nostos.core.clone import remove
from nostos.core.database.base import Database
from nostos.core.database.schema import Value
from nostos.core.decisions import Decision
from nostos.core.errors import NostosError
from nostos.core.fields import Standing
from nostos.core.items import Comparison
from nostos.core.keys import Side
from nostos.core.operations import Plan
from nostos.core.selection import Selection
from nostos.core.site import Site, recognise
from nostos.core.voyage import Crew, Home, Voyage, opened


@dataclass(frozen=True)
class Recovered:
    """What was recovered: which operation of a voyage, and how it ended: "finished", "taken back" or "removed". verb:
    what it was; when: its start, ISO 8601."""

    voyage: str
    operation: str
    ended: str
    verb: str = ""
    when: str = ""


def recover(home: Home, name: str | None = None) -> list[Recovered]:
    """Finish or take back whatever is unfinished, of one voyage or of all. Raises NostosError when a site or its
    database cannot be used; then nothing was changed, and it can be run again."""
    found = []
    for voyage in [home.read(n) for n in ([name] if name else home.names())]:
        with home.lock(voyage.name):
            found += _of_voyage(home, voyage)
    for folder in journals.unfinished(home.path, "restores") if name is None else ():
        begun = _plan(folder)
        if begun.get("detached"):
            site = recognise(begun["detached"])
            database = site.open(readonly=True)
            try:
                ended = _Recovery(detached(site, database), folder).run()
            finally:
                database.close()
        else:
            ended = restoring.recover(folder)
        found.append(Recovered("", f"restore {folder.name}", ended, "restore", begun.get("at", "")))
    return found


def _of_voyage(home: Home, voyage: Voyage) -> list[Recovered]:
    if voyage.state != "ready":
        left = remove(home, voyage)
        if left:
            raise NostosError(f"The unfinished clone of voyage {voyage.name} could not be removed: {'; '.join(left)}.",
                              left="Live was not touched.", next_step="Remove that by hand, then recover again.")
        return [Recovered(voyage.name, "clone", "removed", "clone", voyage.since)]
    found = []
    for folder in journals.unfinished(home.folder(voyage.name)):
        with opened(home, voyage, recovering=True) as crew:
            begun = _plan(folder)
            verb = "undo" if begun.get("undoes") else "merge" if begun.get("toward") == "live" else "refresh"
            ended = _Recovery(crew, folder).run()
            found.append(Recovered(voyage.name, folder.name, ended, verb, begun.get("at", "")))
    return found


def _plan(folder: Path) -> dict[str, Any]:
    return next((line for line in journals.read(folder) if line["step"] == "plan"), {})


class _Recovery:
    def __init__(self, crew: Crew, folder: Path) -> None:
        self.crew = crew
        self.folder = folder
        self.steps: dict[str, dict[str, Any]] = {}
        self.schema: list[dict[str, Any]] = []
        for line in journals.read(folder):
            self.steps[line["step"]] = line
            if line["step"] == "schema":
                self.schema.append(line["change"])
        self.toward = Side(self.steps.get("plan", {}).get("toward", "live"))
        home_coming = self.toward is Side.LIVE
        self.target: Site = crew.live if home_coming else crew.staging
        self.source: Site = crew.staging if home_coming else crew.live

    def run(self) -> str:
        """Returns how it ended."""
        with holding(self.target):
            return self._run()

    def _run(self) -> str:
        journal = journals.Journal(self.folder)
        database = self.target.open()
        try:
            switch = None
            if "staging" in self.steps:
                undoes = self.steps["plan"].get("undoes")
                source = self.folder.parent / undoes / "before" if undoes else self.source.files
                switch = Switch.recorded(self.target.files, source, self.folder.name, self.steps["staging"]["switch"])
            if "committed" in self.steps or marked(database, self.folder.name):
                if switch is not None:
                    switch.tidy()
                self._drop(database, journal)
                self._settle(database)
                journal.write("settled", recovered=True)
                return "finished"
            if switch is not None:
                switch.back("staged" in self.steps)
            take_back_schema(self.schema, database)
            journal.write("taken back", why="recovered")
            return "taken back"
        finally:
            database.close()
            journal.close()

    def _drop(self, database: Database, journal: journals.Journal) -> None:
        tables = database.tables()
        for step in self._steps("drop"):
            table = tables.get(step["table"])
            what, name = step["what"], step["name"]
            there = table is not None and (
                what == "table" or (what == "column" and table.column(name) is not None)
                or (what == "index" and name in dict(table.indexes)))
            if table is not None and there:
                if what != "index":
                    columns = table.stored if what == "table" else (*table.key, name)
                    journal.keep_rows(f"{what}-{table.name}-{name}", columns, database.scan(table, columns))
                database.drop(what, table.name, name)

    def _steps(self, action: str) -> list[dict[str, Any]]:
        operations = self.steps.get("plan", {}).get("operations", [])
        return [o["step"] for o in operations if o["operation"] == "SchemaOperation" and o["step"]["action"] == action]

    def _settle(self, database: Database) -> None:
        anchor = self.crew.anchor
        begun = self.steps.get("plan", {})
        if begun.get("detached"):
            return
        if begun.get("undoes"):
            with anchor.changing(), anchor.recording(self.folder.name):
                anchor.revert(begun["undoes"], [tuple(o) for o in begun["owners"]])
                for step in self._steps("drop"):
                    if step["what"] == "table":
                        anchor.forget_table(step["table"])
            return
        pairs: dict[tuple[Side, str, Value], str] = {}
        for table, name, key in self.steps.get("committing", {}).get("keys", []):
            if self.toward is Side.LIVE and name.startswith("s"):
                pairs[Side.STAGING, table, int(name[1:])] = str(key)
            else:
                pairs[self.toward, table, key] = name
        comparison, _ = merging.look(self.crew, toward=self.toward, prefer=self._decisions, pairs=pairs)
        empty = Plan(Selection((), (), ()), ())
        settle(anchor, comparison, empty, Committed(), self.target, self.source, database, self.toward,
               self.folder.name)

    def _decisions(self, comparison: Comparison) -> Sequence[Decision]:
        """What had been decided, as far as it clashes still."""
        found = []
        for item, side, name in self.steps.get("plan", {}).get("prefer", []):
            now = comparison.items.get(item)
            if now is not None and now.standing is Standing.CLASH and (not name or any(
                    f.name == name and f.standing is Standing.CLASH for f in now.fields)):
                found.append(Decision(item, Side(side), name))
        return found
