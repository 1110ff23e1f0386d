"""What a profile says, as data."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import field, replace
from fnmatch import fnmatchcase
from functools import cached_property
from typing import Any, TypeVar

from nostos.core.database.schema import Column, Value
from nostos.core.profiles.conditions import FirstThat, Where, holds
from nostos.core.profiles.habits import Along, Job, Numbered, Slug, Together
from nostos.core.profiles.network import Network
from nostos.core.profiles.parts import (
    OF_NUMBERS,
    Activity,
    Administrators,
    Child,
    Closed,
    Configuration,
    CounterRule,
    Exported,
    FieldPolicy,
    Folder,
    Framework,
    GuardFile,
    Join,
    Kind,
    MaskRule,
    OwnedFile,
    PathNames,
    Piece,
    Pointers,
    ProfileCaution,
    ProgramQuestion,
    Reference,
    SettingsTable,
    WrittenRows,
)
from nostos.core.profiles.places import Place
from nostos.core.profiles.policies import DERIVED, INHERITED, PLACE, PLAIN, RECKONED, Policy
from nostos.core.profiles.row_trees import NestedTree, RowTree
from nostos.core.records import dataclass

T = TypeVar("T")
K = TypeVar("K")


def ignored(profile: Profile) -> tuple[str, ...]:
    """Patterns of files that are neither cloned nor compared: the profile's, and the guard's own file."""
    return (*profile.ignore, *((profile.guard_file.path,) if profile.guard_file else ()))


def _by(parts: Iterable[T], key: Callable[[T], K]) -> dict[K, tuple[T, ...]]:
    """Parts of a profile by what they are asked for, in their order."""
    groups: dict[K, list[T]] = {}
    for part in parts:
        groups.setdefault(key(part), []).append(part)
    return {k: tuple(some) for k, some in groups.items()}


@dataclass(frozen=True)
class Profile:
    """Everything that one kind of content-managed system means by its tables, settings and folders."""

    name: str
    title: str
    recognise_tables: tuple[str, ...] = ()
    configuration: Configuration | None = None
    settings: SettingsTable | None = None
    guards: Mapping[str, Any] = field(default_factory=dict)
    kinds: tuple[Kind, ...] = ()
    children: tuple[Child, ...] = ()
    references: tuple[Reference, ...] = ()
    files: tuple[OwnedFile, ...] = ()
    made_files: tuple[OwnedFile, ...] = ()  # that each side makes for itself, as the smaller sizes of pictures
    folders: tuple[Folder, ...] = ()
    ignore: tuple[str, ...] = ()
    volatile: tuple[str, ...] = ()
    policies: tuple[FieldPolicy, ...] = ()
    derived: tuple[CounterRule, ...] = ()
    clear: tuple[str, ...] = ()
    clear_settings: tuple[str, ...] = ()
    joins: tuple[Join, ...] = ()
    guard_file: GuardFile | None = None
    question: ProgramQuestion | None = None
    network: Network | None = None  # how an installation keeps several sites
    given: tuple[str, ...] = ()  # tables whose rows' numbers the system gives out, and not the database
    exported: Exported | None = None
    called: PathNames | None = None
    entities: str = ""  # the table in which its system keeps definitions of its own types, which are read
    networked: bool = False  # what it says is said of each of them
    serve: tuple[str, ...] = ()  # a command by which a copy answers on this machine; see around/rehearsal/serving
    minds: tuple[tuple[str, Where, str], ...] = ()  # table, which rows, and what is told where one of them comes home
    gate_setting: str = ""  # the setting by which a copy's pages ask for a password
    prefixed: tuple[tuple[str, str, tuple[str, ...]], ...] = ()  # table, column, patterns of what follows the prefix
    visitor_kinds: tuple[str, ...] = ()
    firm_kinds: tuple[str, ...] = ()  # of these, the ones of which there is little doubt
    cautions: tuple[ProfileCaution, ...] = ()
    activities: tuple[Activity, ...] = ()
    masks: tuple[MaskRule, ...] = ()
    administrators: Administrators | None = None
    numbers: frozenset[Place] = frozenset()  # places (see learning) whose numbers are known to point at nothing
    closed: tuple[Closed, ...] = ()
    framework: Framework | None = None
    written: tuple[WrittenRows, ...] = ()
    pointers: Pointers | None = None
    protects: tuple[tuple[str, Where], ...] = ()  # table, and which rows keep others from seeing or doing something
    of_types: frozenset[str] = frozenset()  # tables with numbers whose table a row of the framework's types says
    history: tuple[str, ...] = ()  # tables whose rows tell of what was
    visitor_tables: tuple[str, ...] = ()  # patterns of tables that visitors fill; and of those that editors do
    editor_tables: tuple[str, ...] = ()
    trees: tuple[RowTree, ...] = ()
    uniques: tuple[tuple[str, str], ...] = ()  # table, column: what the system itself lets no two rows share
    made: tuple[str, ...] = ()  # patterns of tables whose rows are made from others: not compared, but their schema is
    nested: tuple[NestedTree, ...] = ()
    slugs: tuple[Slug, ...] = ()
    jobs: tuple[Job, ...] = ()
    together: tuple[Together, ...] = ()
    along: tuple[Along, ...] = ()
    numbered: tuple[Numbered, ...] = ()
    pieces: tuple[Piece, ...] = ()
    personal: tuple[tuple[str, str, str], ...] = ()  # table, column, and kind of personal data, told by the values
    zone_settings: tuple[str, ...] = ()  # which settings say the site's time zone, or its hours from UTC

    # By table, and by column: a comparison asks for each value of each row.

    @cached_property
    def _kinds(self) -> Mapping[str, FirstThat[Kind]]:
        return {t: FirstThat(some, lambda k: k.where) for t, some in _by(self.kinds, lambda k: k.table).items()}

    @cached_property
    def _children(self) -> Mapping[str, FirstThat[Child]]:
        return {t: FirstThat(some, lambda c: c.where) for t, some in _by(self.children, lambda c: c.table).items()}

    @cached_property
    def _references(self) -> Mapping[str, tuple[Reference, ...]]:
        return _by(self.references, lambda r: r.table)

    @cached_property
    def _policies(self) -> Mapping[tuple[str, str], tuple[FieldPolicy, ...]]:
        return _by(self.policies, lambda p: (p.table, p.column))

    @cached_property
    def _fixed(self) -> Mapping[tuple[str, str], Policy]:
        """Columns whose policy follows from what they are."""
        policies: dict[tuple[str, str], Policy] = {}
        for nested in self.nested:
            policies.update({(nested.table, c): PLACE if c == nested.tells else RECKONED for c in nested.columns})
        for tree in self.trees:
            policies.update({(tree.table, c): PLACE if c == tree.path else INHERITED if c in tree.inherited
                             else RECKONED
                          for c in tree.columns})
        policies.update({(d.table, d.column): DERIVED for d in self.derived})
        return policies

    @cached_property
    def _trees(self) -> Mapping[str, tuple[RowTree, ...]]:
        return _by(self.trees, lambda t: t.table)

    @cached_property
    def _weak(self) -> frozenset[tuple[str, str]]:
        return frozenset((r.table, r.column) for r in self.references if r.weak)

    def kind_of(self, table: str, row: Mapping[str, Value]) -> Kind | None:
        """The kind that a row of a table is; None where no kind is so."""
        kind = self._kinds.get(table)
        return None if kind is None else kind.of(row)

    def child_of(self, table: str, row: Mapping[str, Value]) -> Child | None:
        """What makes a row of a table part of another's item; None where nothing does."""
        child = self._children.get(table)
        return None if child is None else child.of(row)

    def bears_prefix(self, table: str, column: str, rest: str) -> bool:
        """Whether a name that begins with the table prefix does so for a reason, by what follows it."""
        return any(t == table and c == column and any(fnmatchcase(rest, p) for p in patterns)
                   for t, c, patterns in self.prefixed)

    def closes(self, place: Place, column: Column | None) -> bool:
        """Whether what is not said to point anywhere at a place does not. column: that it is in."""
        framework = self.framework
        if framework is not None and place.table not in self.of_types and not place.path and column is not None and (
                OF_NUMBERS.search(column.declared) or (framework.texts and not place.where)) and not any(
                fnmatchcase(place.column, p) for p in framework.keys):
            return True  # what points anywhere is called so
        return any(c.holds(place) for c in self._closed.get((place.table, place.column), ())) or (
            bool(place.path) and (place.table, place.column) in self._names_files)

    def numbers_in(self, table: str, column: str) -> tuple[Place, ...]:
        """The places in a column that are known to hold no references."""
        return self._numbers.get((table, column), ())

    @cached_property
    def _numbers(self) -> Mapping[tuple[str, str], tuple[Place, ...]]:
        return _by(self.numbers, lambda p: (p.table, p.column))

    @cached_property
    def _closed(self) -> Mapping[tuple[str, str], tuple[Closed, ...]]:
        return _by(self.closed, lambda c: (c.table, c.column))

    @cached_property
    def _names_files(self) -> frozenset[tuple[str, str]]:
        return frozenset((f.table, f.column) for f in self.files)

    def whose(self, table: str) -> str:
        """Who fills a table, as far as the profile says: "visitors", "editors"; empty where it does not."""
        return next((who for who, patterns in (("visitors", self.visitor_tables), ("editors", self.editor_tables))
                     if any(fnmatchcase(table, p) for p in patterns)), "")

    def references_of(self, table: str) -> tuple[Reference, ...]:
        """The references in the columns of a table, whatever rows they are for."""
        return self._references.get(table, ())

    def policy(self, table: str, row: Mapping[str, Value], column: str) -> Policy:
        """The policy of a column of a row; the first that matches."""
        fixed = self._fixed.get((table, column))
        if fixed is not None:
            return fixed
        known = self._whole_policies.get((table, column))
        policy = None if known is None else known.of(row)
        return PLAIN if policy is None else policy.policy

    @cached_property
    def _whole_policies(self) -> Mapping[tuple[str, str], FirstThat[FieldPolicy]]:
        return {place: FirstThat(tuple(p for p in some if not p.path), lambda p: p.where)
                for place, some in self._policies.items()}

    def path_policies(self, table: str, row: Mapping[str, Value], column: str) -> dict[tuple[str, ...], Policy]:
        """Policies of single keys inside a structured value."""
        return {p.path: p.policy for p in self._policies.get((table, column), ()) if p.path and holds(p.where, row)}

    def piece_of(self, table: str, row: Mapping[str, Value], column: str, host: str) -> str:
        """Which piece of the site's address a column of a row may hold; empty: none. host: of the site."""
        return next((p.piece for p in self.pieces if p.table == table and p.column == column and holds(p.where, row)
                     and (not p.beside or row.get(p.beside) == host)), "")

    def nested_of(self, table: str) -> NestedTree | None:
        """The tree by intervals that a table keeps; None where it keeps none."""
        return next((t for t in self.nested if t.table == table), None)

    @property
    def placed(self) -> frozenset[tuple[str, str]]:
        """The columns, each with its table, that follow from rows' places in trees."""
        return frozenset([(t.table, c) for t in self.trees for c in t.columns]
                         + [(n.table, c) for n in self.nested for c in n.columns])

    def placed_in(self, table: str) -> frozenset[str]:
        """The columns of a table that follow from its rows' places in a tree."""
        return frozenset(c for t, c in self.placed if t == table) if self.trees or self.nested else frozenset()

    def tree_of(self, table: str) -> RowTree | None:
        """The tree by paths or parents that a table keeps; None where it keeps none."""
        return next(iter(self._trees.get(table, ())), None)

    def is_weak(self, table: str, column: str) -> bool:
        """Whether a column points at something that its row can be without."""
        return (table, column) in self._weak

    @cached_property
    def _of_visitors(self) -> dict[str, bool]:
        return {}

    def is_account(self, kind: str) -> bool:
        """Whether rows of a kind can log in."""
        return kind in self._accounts

    @cached_property
    def _accounts(self) -> frozenset[str]:
        return frozenset(k.name for k in self.kinds if k.account)

    def is_visitors(self, kind: str) -> bool:
        """Whether visitors make what is of this kind, so that it stays in staging unless it is named."""
        known = self._of_visitors.get(kind)
        if known is None:
            known = self._of_visitors[kind] = self._is_visitors(kind)
        return known

    def _is_visitors(self, kind: str) -> bool:
        return any(k.name == kind and k.visitors for k in self.kinds) or any(
            fnmatchcase(kind, p) for p in self.visitor_kinds)

    def is_surely_visitors(self, kind: str) -> bool:
        """Whether visitors make the rows of a kind by what a profile says, or by evidence that leaves little doubt."""
        return any(k.name == kind and k.visitors and not k.natural for k in self.kinds) or any(
            fnmatchcase(kind, p) for p in self.firm_kinds)

    def with_visitors(self, patterns: tuple[str, ...]) -> Profile:
        """This profile with more kinds counted as made by visitors."""
        kinds = tuple(replace(k, visitors=True) if any(fnmatchcase(k.name, p) for p in patterns) else k
                      for k in self.kinds)
        return replace(self, kinds=kinds, visitor_kinds=patterns)
