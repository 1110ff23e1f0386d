"""What a profile says, as data."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from fnmatch import fnmatchcase
from functools import cached_property
from typing import Any, TypeVar

from nostos.core.database.schema import Column, Row, Value
from nostos.core.profiles.conditions import FirstThat, Where, holds
from nostos.core.profiles.habits import Along, Job, Numbered, Slug, Together
from nostos.core.profiles.network import Network
from nostos.core.profiles.places import Place
from nostos.core.profiles.policies import DERIVED, INHERITED, PLACE, PLAIN, RECKONED, Policy
from nostos.core.profiles.row_trees import NestedTree, RowTree

T = TypeVar("T")
K = TypeVar("K")


_OF_NUMBERS = re.compile(r"(?i)\b(?:(?:tiny|small|medium|big)?int(?:eger)?|(?:small|big)?serial|decimal|numeric|real|"
                         r"double|float|money|int[248]|float[48])\b")  # types of columns
MASK_KINDS = frozenset({"name", "first", "last", "login", "email", "phone", "code", "address", "city", "ip", "note",
                        "url", "label", "drop", "keep"})  # how a personal value can be made up


def ignored(profile: Profile) -> tuple[str, ...]:
    """Patterns of files that are neither cloned nor compared: the profile's, and the guard's own file."""
    return (*profile.ignore, *((profile.guard_file.path,) if profile.guard_file else ()))


GROUPS = ("content", "files", "menus", "settings", "design", "updates", "structure")  # as people think of them


@dataclass(frozen=True)
class Kind:
    """A kind of item: the rows of a table for which `where` holds.

    label, title: the columns that name it for commands and for people. identity: the columns that say when two rows
    born apart are the same thing (empty: never). born: a column that never changes in a row's life, which tells a
    reused key from an edited row. visitors: whether visitors make these items.
    """

    name: str
    table: str
    where: Where = ()
    label: tuple[str, ...] = ()
    title: str | None = None
    identity: tuple[str, ...] = ()
    born: str | None = None
    visitors: bool = False
    strip: str = ""
    volatile: bool = False
    address: str = ""  # where visitors see one, below the site's URL, with columns in braces
    shown: Where = ()  # which of them they see
    top: str = ""  # a column that points at the row whose address is the site's own: only what is below is seen
    natural: bool = False  # no profile names it: the schema does, and its identity is a natural unique value
    gone: Where = ()  # for which rows its own system counts it as removed, though it keeps them
    account: bool = False  # who may log in: what staging does to it goes home only when it is named
    group: str = ""  # of `GROUPS`: where people look for it

    def named(self, row: Mapping[str, Value]) -> str:
        """The kind's name for a row: `{column}` in it is the row's value."""
        return re.sub(r"\{(\w+)\}", lambda m: str(row.get(m.group(1))), self.name)


@dataclass(frozen=True)
class Child:
    """Rows of `table` that are fields of the item of the row that column `of` points at."""

    table: str
    of: str
    owner: str
    name: str
    label: tuple[str, ...]
    where: Where = ()
    repeats: bool = False  # rows of one label are always different things
    natural: bool = False  # no profile names it: it was worked out


@dataclass(frozen=True)
class Reference:
    """A place that points at something: a column, a path inside its structured value, or a pattern in its text.

    to: the target table, by its surrogate key; or, with `to_column`, by another column. to_folder: the kind of a
    folder item, by name.
    """

    table: str
    column: str
    to: str = ""
    to_column: str | None = None
    to_folder: str = ""
    where: Where = ()
    path: tuple[str, ...] | None = None
    pattern: str | None = None
    many: bool = False  # the pattern's group holds several ids
    declared: bool = False  # a foreign key of the schema
    weak: bool = False  # a row stands without it: it pulls nothing in, and where its target is not, it is left out
    learned: bool = False  # nobody said so: it was worked out
    outlives: bool = False  # it tells of what was, and stays as it is when that is removed

    @property
    def is_key(self) -> bool:
        """Whether the column as a whole is the surrogate key of a row, and nothing else."""
        return bool(self.to) and self.to_column is None and self.path is None and self.pattern is None


@dataclass(frozen=True)
class OwnedFile:
    """A column that names a file, under `folder`, which belongs to the row's item.

    variants: what to leave out of the name of a file that was made from the named one. above: a column that holds the
    folders between `folder` and the name; empty where the name says them.
    """

    table: str
    column: str
    folder: str
    where: Where = ()
    variants: str = ""
    above: str = ""

    def path_in(self, row: Row) -> Value:
        """The path below `folder` that a row says, as `values` has it."""
        name, above = row.get(self.column), row.get(self.above) if self.above else ""
        return f"{above.strip('/')}/{name}".strip("/") if isinstance(above, str) and isinstance(name, str) else name

    def held(self, values: Iterable[str]) -> list[str]:
        """What the column itself holds in the rows that say one of these."""
        return sorted({v.rpartition("/")[2] if self.above else v for v in values})

    def values(self, path: str) -> tuple[str, ...]:
        """What the column of the row may hold that a file belongs to; nothing for files elsewhere."""
        above = f"{self.folder}/" if self.folder else ""
        if not path.startswith(above):
            return ()
        value = path[len(above):]
        base = re.sub(self.variants, "", value) if self.variants else value
        return tuple(dict.fromkeys((value, base, re.sub(r"(?=\.[^./]+$)", "-scaled", base, count=1))
                                   if self.variants else (value,)))


@dataclass(frozen=True)
class Version:
    """Where a version is written: the files of a folder that are looked at (a shell wildcard), and a pattern whose one
    group is the version."""

    files: str
    pattern: str


@dataclass(frozen=True)
class ProfileCaution:
    """What survey tells of a site that has these tables: the profile's author knows better."""

    tables: tuple[str, ...]
    what: str
    why: str
    remedy: str


@dataclass(frozen=True)
class Folder:
    """Folders that are items. owns: patterns of tables, and of `table.column`, that come with one. offers: patterns of
    items that seem to belong to one."""

    kind: str
    parent: str
    manifest: str | None
    owns: tuple[str, ...] = ()
    only: str = ""  # just the folder of this name
    version: Version | None = None
    offers: tuple[str, ...] = ()
    group: str = ""  # of `GROUPS`: where people look for it


@dataclass(frozen=True)
class FieldPolicy:
    table: str
    column: str
    policy: Policy
    where: Where = ()
    path: tuple[str, ...] = ()


@dataclass(frozen=True)
class CounterRule:
    """A counter: the number of rows of `counts` whose `by` is this row's key."""

    table: str
    column: str
    counts: str
    by: str
    where: Where = ()
    through: Through | None = None


@dataclass(frozen=True)
class Piece:
    """A column that holds, in the rows for which `where` holds, a piece of the site's address: its "host", "port",
    "scheme" or "path". beside: a column of the same row in which the host must stand."""

    table: str
    column: str
    where: Where
    piece: str
    beside: str = ""


@dataclass(frozen=True)
class Through:
    """Counted rows count only where column `by` points at a row of `table` for which `where` holds."""

    table: str
    by: str
    where: Where


@dataclass(frozen=True)
class Join:
    """A value of another row that tells more of this one: `column` of the row of `source` whose columns equal this
    row's (`on`: own column, other column) and for which `where` holds. It is called `name` in conditions. only: of
    which rows it tells anything."""

    table: str
    name: str
    source: str
    on: tuple[tuple[str, str], ...]
    column: str
    where: Where = ()
    only: Where = ()
    via: tuple[Through, ...] = ()  # on from there: each a row of another table, found by the value before
    then: tuple[str, ...] = ()  # what is taken from each of these


@dataclass(frozen=True)
class Closed:
    """What a system's core writes by itself, so that nothing in it is learned or asked: `column` of the rows whose
    `key` is one of these names (patterns), or, with `steps`, places of these shapes in its texts (regular expressions
    of their last steps)."""

    table: str
    column: str
    key: str = ""
    names: tuple[str, ...] = ()
    steps: tuple[str, ...] = ()
    having: tuple[str, ...] = ()  # instead of a table: every one that has these columns

    def holds(self, place: Place) -> bool:
        """Whether a place is the core's own."""
        if (place.table, place.column) != (self.table, self.column):
            return False
        if not self.key and not self.steps:
            return True
        named = next((value for column, value in place.where if column == self.key), None)
        if named is not None and any(fnmatchcase(named, p) for p in self.names):
            return True
        return bool(place.path) and any(re.fullmatch(p, place.path[-1]) for p in self.steps)


@dataclass(frozen=True)
class Framework:
    """What a system's framework does with the tables of every application. types: the table (if any) that has a row for
    each table, with two `names` in it; a table is called by them, with `between` between; tables: those that are called
    otherwise, with what stands for them.
    type, numbers: the end of columns that point at a row of `types`, and those of columns beside them that hold a
    number of that table. keys: what columns are called that point anywhere, declared or not
    (wildcards); texts: also those that hold numbers as text, or lists of them."""

    types: str
    names: tuple[str, ...]
    between: str
    type: str
    numbers: tuple[str, ...]
    keys: tuple[str, ...]
    tables: tuple[tuple[str, tuple[str, ...]], ...] = ()
    texts: bool = False


@dataclass(frozen=True)
class WrittenRows:
    """A column that holds rows of other tables, written down: `key` is a row's own number, a column `strip`ped of that
    ending is called so, and lists in it are rows that point at it."""

    table: str
    column: str
    key: str
    strip: str


@dataclass(frozen=True)
class Pointers:
    """A table in which the system itself writes down what points at what: columns that say the table which points, the
    one that is pointed at (both as rows of the framework's types), and the path to there, with dots."""

    table: str
    of: str
    to: str
    path: str


@dataclass(frozen=True)
class GuardFile:
    """A file that only staging has: where it goes, the text that goes there, and what it does, for people."""

    path: str
    text: str
    does: str


@dataclass(frozen=True)
class ProgramQuestion:
    """How a copy is asked about itself: a program, and what it is given to run in the copy's folder."""

    program: str
    text: str


@dataclass(frozen=True)
class SettingsTable:
    """Where a system keeps its settings: a row each, a name and a value."""

    table: str
    name: str
    value: str
    format: str
    also: tuple[str, ...] = ()  # the same of further sites

    @property
    def tables(self) -> tuple[str, ...]:
        return self.table, *self.also


@dataclass(frozen=True)
class Activity:
    """Rows that tell when something happened, in a column. local: in the site's own time zone, not in UTC. visitors:
    whether it is visitors who did it."""

    name: str
    table: str
    time: str
    where: Where = ()
    local: bool = False
    visitors: bool = True


@dataclass(frozen=True)
class MaskRule:
    """A column of personal data. kind: what is made up for it. owner: the column that says whose row it is."""

    table: str
    column: str
    kind: str
    where: Where = ()
    owner: str = ""


@dataclass(frozen=True)
class Administrators:
    """Who is not masked: the values of a column, of the rows for which `where` holds."""

    table: str
    key: str
    where: Where = ()


@dataclass(frozen=True)
class Configuration:
    """Where a system's own configuration file says its name, base URL and database: dotted keys. engine: of the
    database, where the file itself does not say it."""

    file: str
    format: str
    name: str
    url: str
    database: str
    engine: str = ""


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
        kind = self._kinds.get(table)
        return None if kind is None else kind.of(row)

    def child_of(self, table: str, row: Mapping[str, Value]) -> Child | None:
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
                _OF_NUMBERS.search(column.declared) or (framework.texts and not place.where)) and not any(
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
        return next(iter(self._trees.get(table, ())), None)

    def is_weak(self, table: str, column: str) -> bool:
        """Whether a column points at something that its row can be without."""
        return (table, column) in self._weak

    @cached_property
    def _of_visitors(self) -> dict[str, bool]:
        return {}

    def is_account(self, kind: str) -> bool:
        return kind in self._accounts

    @cached_property
    def _accounts(self) -> frozenset[str]:
        return frozenset(k.name for k in self.kinds if k.account)

    def is_visitors(self, kind: str) -> bool:
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
