"""The parts of a profile, each as data: kinds and their children, references, folders, what is asked of a system."""


from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from fnmatch import fnmatchcase
from typing import Any

from nostos.core.database.schema import Row, Value
from nostos.core.expressions import expression
from nostos.core.profiles.conditions import Where
from nostos.core.profiles.places import Place
from nostos.core.profiles.policies import Policy
from nostos.core.records import dataclass
from nostos.core.values.structures import StructuredValue, fits, leaves

OF_NUMBERS = expression(r"(?i)\b(?:(?:tiny|small|medium|big)?int(?:eger)?|(?:small|big)?serial|decimal|numeric|real|"
                         r"double|float|money|int[248]|float[48])\b")  # types of columns
MASK_KINDS = frozenset({"name", "first", "last", "login", "email", "phone", "code", "address", "city", "ip", "note",
                        "url", "label", "drop", "keep"})  # how a personal value can be made up
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
    tied: bool = False  # a new one is nothing without the new thing that it points at, as an address of a page
    bound: bool = False  # so is one that changed, as where an article stands on its way to being published

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
    folder item, by name. keys: what names something there are the keys at the path, not their values.
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
    keys: bool = False

    @property
    def is_key(self) -> bool:
        """Whether the column as a whole is the surrogate key of a row, and nothing else."""
        return bool(self.to) and self.to_column is None and self.path is None and self.pattern is None

    @property
    def by_name(self) -> bool:
        """Whether names inside of a value point there, as against numbers, or the value as a whole."""
        return bool(self.to_column) and (self.path is not None or self.pattern is not None)

    def names_in(self, value: Any) -> Iterator[str]:
        """The names that a value holds at the path, or that the pattern finds in its texts."""
        told: Iterable[Any]
        if isinstance(value, StructuredValue):
            told = (path[-1] if self.keys and path else leaf for path, leaf in leaves(value.data)
                    if self.path is None or fits(self.path, path))
        else:
            told = () if self.path else value if isinstance(value, list) else (value,)
        for text in told:
            if isinstance(text, str):
                yield from (m.group(1) for m in re.finditer(self.pattern, text)) if self.pattern else (text,)


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
    begins: str = ""  # what stands before the path in the column

    def path_in(self, row: Row) -> Value:
        """The path below `folder` that a row says, as `values` has it."""
        name, above = row.get(self.column), row.get(self.above) if self.above else ""
        if self.begins:
            return name.removeprefix(self.begins) if isinstance(name, str) and name.startswith(self.begins) else None
        return f"{above.strip('/')}/{name}".strip("/") if isinstance(above, str) and isinstance(name, str) else name

    def held(self, values: Iterable[str]) -> list[str]:
        """What the column itself holds in the rows that say one of these."""
        return sorted({v.rpartition("/")[2] if self.above else self.begins + v for v in values})

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
    items that seem to belong to one. noted: the kind of what the system notes of one, by its name: how far its updates
    have run; both go home, or none."""

    kind: str
    parent: str
    manifest: str | None
    owns: tuple[str, ...] = ()
    only: str = ""  # just the folder of this name
    version: Version | None = None
    offers: tuple[str, ...] = ()
    group: str = ""  # of `GROUPS`: where people look for it
    noted: str = ""


@dataclass(frozen=True)
class PathNames:
    """Where a system keeps names of paths: column `called` holds the one under which visitors find what is at `path`.
    """

    table: str
    path: str
    called: str


@dataclass(frozen=True)
class Exported:
    """Settings that are kept in files, too: those of `table` for which `where` holds, each in `folder`, by its `name`
    and `.yml`. column: what is in the file. mark: one that is there wherever they are kept so."""

    table: str
    column: str
    name: str
    where: Where = ()
    mark: str = ""
    folder: str = ""  # empty: this site has none

    def path(self, name: str) -> str:
        """The path of a setting's file."""
        return f"{self.folder}/{name}.yml"

    def named(self, path: str) -> str:
        """The setting whose file this is; empty where it is none's."""
        head, _, last = path.rpartition("/")
        return last.removesuffix(".yml") if head == self.folder and last.endswith(".yml") else ""


@dataclass(frozen=True)
class FieldPolicy:
    """How a column's values are compared and merged, for some rows or all, whole or at a path inside them."""

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
