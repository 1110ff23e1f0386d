"""A choice made into a merge that is ready to be shown and carried out."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, closing, contextmanager
from dataclasses import field, replace
from pathlib import Path
from urllib.parse import quote

from nostos.core.anchor.names import Side
from nostos.core.anchor.open_voyage import Crew
from nostos.core.compare.called_code import mark_called_code
from nostos.core.compare.exported import disagreeing
from nostos.core.compare.file_changes import FileState, compare_files
from nostos.core.compare.gather import assemble
from nostos.core.compare.items import Comparison, Item
from nostos.core.compare.naming import name_items
from nostos.core.compare.network_scope import in_scope
from nostos.core.compare.numbered_files import numbered
from nostos.core.compare.owned_files import owned_files
from nostos.core.compare.row_changes import compare_rows
from nostos.core.compare.schema_changes import schema_items
from nostos.core.compare.two_names import both_ways, renamed_files
from nostos.core.database.protocol import Database, explaining
from nostos.core.database.schema import NAMED, Value
from nostos.core.errors import SiteError
from nostos.core.files.tree import FileTree
from nostos.core.learning.findings import Certainty, Layer
from nostos.core.learning.pointers import pointers_of
from nostos.core.learning.sources import Sources
from nostos.core.plan import needs as need_finder
from nostos.core.plan.decisions import decide
from nostos.core.plan.leftovers import Trace, leftovers
from nostos.core.plan.needs import Needs
from nostos.core.plan.operations import (
    Plan,
    PutFile,
    RemoveFile,
    SchemaOperation,
    SwitchFolder,
    changes_of,
    plan,
    travelling,
)
from nostos.core.plan.roles import exchanged
from nostos.core.plan.selection import Choice, choose
from nostos.core.plan.unknown import Explainer, Question, asked_for, hold_back, unexplained
from nostos.core.profiles.places import Place
from nostos.core.progress import Listener, Progress, silent
from nostos.core.records import dataclass
from nostos.core.sites.addresses import forms_of
from nostos.core.sites.database_words import DatabaseWords
from nostos.core.sites.recognise import Site
from nostos.core.undisturbed import not_collecting
from nostos.core.values.traces import Traces

DEFAULT = Choice()
_ANY = 1 << 62  # higher than any key


Moment = Callable[[], AbstractContextManager[Database]]
ChoiceOf = Callable[[Comparison], Choice]  # a choice that rests on what a comparison finds


@dataclass(frozen=True)
class PreparedMerge:
    """A merge ready to be shown and carried out."""

    comparison: Comparison
    needs: Needs
    plan: Plan
    choice: Choice | ChoiceOf = DEFAULT
    toward: Side = Side.LIVE
    made: Choice = DEFAULT  # the choice as it was made for this comparison
    undecided: Mapping[str, Item] = field(default_factory=dict)  # the items before clashes were decided
    undoes: str = ""  # the operation that it takes back
    again: Callable[[], PreparedMerge] | None = None  # how it is prepared once more, if not as a merge is
    files: FileTree | None = None  # where what comes lies, if not in the other side's tree
    journals: Path | None = None  # where its journal is kept, for an operation of no voyage
    traces: tuple[Trace, ...] = ()  # where what goes home still speaks of staging

    @property
    def acts(self) -> bool:
        """Whether carrying it out does anything: on the target, or in what counts as decided."""
        return bool(self.plan.operations or self.plan.selection.kept)


def compare_voyage(crew: Crew, tell: Listener = silent, toward: Side = Side.LIVE,
                   made_for: Callable[[Comparison], Choice] = lambda _: DEFAULT) -> tuple[Comparison, Needs]:
    """Compare the two sites of a voyage, seen from the side that a merge is to write. made_for: the choice that is
    made for what was found: how clashes are decided, and what is left by name.
    Reads both, changes neither."""
    with not_collecting(), _read(crew, tell, toward, made_for, lambda: _at_one_moment(crew.live)) as comparison:
        return comparison


@contextmanager
def _at_one_moment(site: Site) -> Iterator[Database]:
    with closing(site.open(readonly=True)) as database, explaining(database), database.reading():
        yield database


@contextmanager
def _read(crew: Crew, tell: Listener, toward: Side, made_for: Callable[[Comparison], Choice], moment: Moment
          ) -> Iterator[tuple[Comparison, Needs]]:
    """What a comparison finds, while both databases are still read from."""
    # Files first: while they are read no snapshot of a database is held, which writers may wait for.
    tell(Progress("comparing files", 0, None, "files"))
    skipped = replace(crew.live.profile, ignore=(*crew.live.profile.ignore, *(crew.anchor.fact("skip") or ())))
    crew.staging.files.called = both_ways(crew.anchor.keys(Side.STAGING).files)
    files = compare_files(crew.anchor, crew.live, crew.staging, skipped)
    with moment() as live_db, _at_one_moment(crew.staging) as staging_db:
        yield _compared(crew, live_db, staging_db, files, tell, made_for, toward)


def _compared(crew: Crew, live_db: Database, staging_db: Database, files: list[FileState], tell: Listener,
              made_for: Callable[[Comparison], Choice], toward: Side) -> tuple[Comparison, Needs]:
    tell(Progress("comparing rows", 0, None, "tables"))
    crew.staging.files.called, files = renamed_files(
        crew.anchor, crew.live.profile, files, crew.staging.files.called,
        {Side.LIVE: crew.live.files, Side.STAGING: crew.staging.files}, staging_db)
    layers = crew.layers(live_db, staging_db)
    comparison = _gathered(crew, live_db, staging_db, files, layers)
    target_db, source_db = (live_db, staging_db) if toward is Side.LIVE else (staging_db, live_db)

    def seen() -> Comparison:
        return comparison if toward is Side.LIVE else exchanged(comparison, staging_db)

    questions: tuple[Question, ...] = ()
    roles = seen()
    unknown = unexplained(roles)
    if unknown:
        tried: set[Place] = set()
        pointers = pointers_of(source_db, roles.rows.source_tables, roles.rows.profile)
        while True:
            since, questions = Explainer(roles.rows, target_db, source_db, pointers).explain(unknown, tried)
            layers = (*layers, since)
            if not since.references:
                break
            # What is known now is read anew, as what it is; that may tell more.
            tried |= {f.place for f in since.findings if f.certainty is Certainty.SURE}
            comparison = _gathered(crew, live_db, staging_db, files, layers)
            roles = seen()
            unknown = unexplained(roles)
    if toward is Side.LIVE:
        comparison = hold_back(comparison, questions)
    programs = tuple(f"{what} {name}" for what, name in sorted(source_db.programs() - target_db.programs()))
    comparison = replace(comparison, programs=programs, sources=Sources(crew.live.profile, crew.live.adds, layers))
    if toward is Side.LIVE:
        comparison = replace(comparison, exported=disagreeing(comparison, crew.staging.files, staging_db))
    made = made_for(comparison)
    if made.prefer:
        first = replace(comparison, items=dict(comparison.items))
        need_finder.resolve(first, live_db)
        decide(comparison, made.prefer, {i.id: i.reason for i in first.items.values() if i.reason})
    if toward is Side.STAGING:
        comparison = hold_back(exchanged(comparison, staging_db), questions)
    if toward is Side.LIVE:
        mark_called_code(comparison, target_db)
    name_items(comparison, target_db, source_db)
    needs = _resolved(comparison, target_db, source_db, made.leave)
    return asked_for(comparison), needs


def _resolved(comparison: Comparison, target_db: Database, source_db: Database, leave: Sequence[str]) -> Needs:
    needs = need_finder.resolve(comparison, target_db, leave)
    rows = comparison.rows
    for name in rows.nowhere:
        table = rows.source_tables.get(name)
        if table is not None and table.surrogate:
            counted = source_db.counter(table)  # None: what was given out and removed left no trace
            rows.given[name] = _ANY if counted is None else max(source_db.top(table) or 0, counted)
    return needs


def _gathered(crew: Crew, live_db: Database, staging_db: Database, files: list[FileState], layers: Sequence[Layer]
              ) -> Comparison:
    rows = compare_rows(crew.anchor, crew.live, live_db, crew.staging, staging_db, layers, crew.staging.files.called)
    learned = owned_files(rows, files, {Side.LIVE: live_db, Side.STAGING: staging_db}, crew.live.files)
    if learned:
        rows.profile = replace(rows.profile, files=(*rows.profile.files, *learned))
    rows.numbered = numbered(rows, files, {Side.LIVE: live_db, Side.STAGING: staging_db}, crew.live.files)
    comparison = assemble(crew.anchor, rows, files, schema_items(rows, crew.anchor), staging_db, live_db)
    return in_scope(comparison, crew.anchor.fact("network_site"))


def prepare(crew: Crew, choice: Choice | ChoiceOf = DEFAULT, tell: Listener = silent,
            toward: Side = Side.LIVE, moment: Moment | None = None) -> PreparedMerge:
    """Compare afresh and turn a choice into operations. toward: staging for a refresh, which is a merge with the roles
    changed. moment: gives live's database as it is at one moment, if that is not this function's to open. Raises
    SelectionError; changes nothing."""
    made = DEFAULT
    undecided: dict[str, Item] = {}

    def made_for(comparison: Comparison) -> Choice:
        nonlocal made
        made = choice(comparison) if callable(choice) else choice
        undecided.update(comparison.items)
        return made

    if moment is None:
        return _ready(crew, *compare_voyage(crew, tell, toward, made_for), choice, toward, made, undecided)
    with not_collecting(), _read(crew, tell, toward, made_for, moment) as comparison:  # what cannot be ends it early
        return _ready(crew, *comparison, choice, toward, made, undecided)


def _ready(crew: Crew, comparison: Comparison, needs: Needs, choice: Choice | ChoiceOf, toward: Side, made: Choice,
           undecided: dict[str, Item]) -> PreparedMerge:
    selection = choose(comparison, needs, made, lambda name: exists(crew, comparison, name))
    planned = plan(comparison, needs, selection)
    target = crew.live if toward is Side.LIVE else crew.staging
    traces: tuple[Trace, ...] = ()
    if toward is Side.LIVE:
        theirs, ours = DatabaseWords.of(crew.staging.database), DatabaseWords.of(crew.live.database)
        traces = tuple(leftovers(planned, Traces(forms_of(crew.staging), forms_of(crew.live)), crew.staging.files,
                                 theirs if theirs.name != ours.name else DatabaseWords("")))
    noted = replace(selection, warnings=(
        *selection.warnings, *not_given(target.files, planned),
        *(f"{f.path} is set-user-id or set-group-id in {toward.other}: it goes without that"
          for i in selection.items for f in i.files if f.source is not None
          and f.source.mode != travelling(f.source, f.target)),
        *(f"{o.item}: rows that {toward.other} does not have get {o.step.filled!r} in it, as most that were there have"
          for o in planned.of(SchemaOperation) if o.step.filled is not None),
        *((f"{toward.other} alone has {', '.join(comparison.programs)}: what is defined beside tables is not brought "
           "along, and would have to be made by hand",) if comparison.programs else ()),
        *(f"{t.item} still speaks of staging, in {t.place}: {t.text}" for t in traces)))
    return PreparedMerge(comparison, needs, replace(planned, selection=noted), choice, toward, made, undecided,
                         traces=traces)


def not_given(tree: FileTree, planned: Plan) -> Iterator[str]:
    """What will belong to this user, who may not give it to whom it should belong to."""
    paths = [change.path for o in planned.of(PutFile, RemoveFile, SwitchFolder) for change in changes_of(o)
             if isinstance(change, PutFile)]
    with tree.looking_ahead(("owner", p) for p in paths):
        mine = [p for p in paths if not tree.may_give(tree.owner(p))]
    if mine:
        owner = tree.owner(mine[0])
        yield (f"{len(mine)} files, such as {mine[0]}, will belong to you and not to user {owner.user}, group "
               f"{owner.group}, for only root may give files away: the site may not be able to change them")


def exists(crew: Crew, comparison: Comparison, name: str) -> bool:
    """Whether there is an item of this name (or, for a pattern, of this kind) that simply did not change."""
    profile = comparison.rows.profile
    kind_name, _, label = name.partition("/")
    pattern = any(c in name for c in "*?[")
    for folder in profile.folders:
        if folder.kind == kind_name:
            return pattern or crew.live.files.is_folder(f"{folder.parent}/{label}".strip("/"))
    if kind_name in (*NAMED, "table", "column"):
        of, _, part = label.partition(".")
        known = comparison.rows.target_tables
        if kind_name in NAMED:
            return pattern or any({label, part} & t.named(kind_name).keys() for t in known.values())
        return pattern or (of in known and (kind_name == "table" or part in known[of].names))
    if kind_name == "file":
        try:
            return pattern or crew.live.files.status(label) is not None
        except SiteError:
            return False
    kinds = [k for k in profile.kinds if k.name == kind_name or "{" in k.name]
    if not kinds or pattern:
        return bool(kinds) or name in ("*", "**")
    live_db = crew.live.open(readonly=True)
    try:
        for kind in kinds:
            table = comparison.rows.target_tables.get(kind.table)
            columns = (kind.label or table.key) if table else ()
            values = [label] if len(columns) == 1 else label.split(",")
            if table is not None and len(values) == len(columns):
                for typed in (values, [int(v) if v.isdigit() else v for v in values],
                              [quote(v).lower() for v in values]):
                    wanted: dict[str, Value] = dict(zip(columns, typed, strict=True))
                    for column in re.findall(r"\{(\w+)\}", kind.name):
                        wanted[column] = kind_name
                    if kind.strip:
                        wanted = {c: kind.strip + str(v) if c in columns else v for c, v in wanted.items()}
                    if live_db.find(table, wanted):
                        return True
        return False
    finally:
        live_db.close()
