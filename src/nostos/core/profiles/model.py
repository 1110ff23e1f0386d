"""What a profile says, as data."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum
from fnmatch import fnmatchcase
from typing import Any

from nostos.core.database.schema import Row, Value

Where = tuple[tuple[str, str], ...]


class Policy(StrEnum):
    """How a field is compared and merged (design, section 4)."""

    PLAIN = "plain"
    NEWEST = "newest"
    SET = "set"
    STRUCTURE = "structure"
    TEXT = "text"
    DERIVED = "derived"
    LOCAL = "local"
    VOLATILE = "volatile"


COMPARED = frozenset({Policy.PLAIN, Policy.NEWEST, Policy.SET, Policy.STRUCTURE, Policy.TEXT})


def holds(where: Where, row: Mapping[str, Value]) -> bool:
    """Whether a row's columns match these shell wildcards."""
    return all(fnmatchcase(str(row.get(column)), pattern) for column, pattern in where)


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


@dataclass(frozen=True)
class Child:
    """Rows of `table` that are fields of the item of the row that column `of` points at."""

    table: str
    of: str
    owner: str
    name: str
    label: tuple[str, ...]


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
    declared: bool = False  # a foreign key of the schema


@dataclass(frozen=True)
class OwnedFile:
    """A column that names a file, under `folder`, which belongs to the row's item."""

    table: str
    column: str
    folder: str
    where: Where = ()


@dataclass(frozen=True)
class Folder:
    """Folders that are items. owns: patterns of tables, and of `table.column`, that come with one."""

    kind: str
    parent: str
    manifest: str | None
    owns: tuple[str, ...] = ()


@dataclass(frozen=True)
class FieldPolicy:
    table: str
    column: str
    policy: Policy
    where: Where = ()
    path: tuple[str, ...] = ()


@dataclass(frozen=True)
class Derived:
    """A counter: the number of rows of `counts` whose `by` is this row's key."""

    table: str
    column: str
    counts: str
    by: str
    where: Where = ()


@dataclass(frozen=True)
class SettingsTable:
    """Where a system keeps its settings: a row each, a name and a value."""

    table: str
    name: str
    value: str
    format: str


@dataclass(frozen=True)
class Configuration:
    """Where a system's own configuration file says its name, base URL and database: dotted keys."""

    file: str
    format: str
    name: str
    url: str
    database: str


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
    folders: tuple[Folder, ...] = ()
    ignore: tuple[str, ...] = ()
    volatile: tuple[str, ...] = ()
    policies: tuple[FieldPolicy, ...] = ()
    derived: tuple[Derived, ...] = ()
    clear: tuple[str, ...] = ()

    def kind_of(self, table: str, row: Row) -> Kind | None:
        return next((k for k in self.kinds if k.table == table and holds(k.where, row)), None)

    def child_of(self, table: str) -> Child | None:
        return next((c for c in self.children if c.table == table), None)

    def references_of(self, table: str) -> tuple[Reference, ...]:
        return tuple(r for r in self.references if r.table == table)

    def policy(self, table: str, row: Row, column: str) -> Policy:
        """The policy of a column of a row; the first that matches."""
        if any(d.table == table and d.column == column for d in self.derived):
            return Policy.DERIVED
        for p in self.policies:
            if p.table == table and p.column == column and not p.path and holds(p.where, row):
                return p.policy
        return Policy.PLAIN

    def path_policies(self, table: str, row: Row, column: str) -> dict[tuple[str, ...], Policy]:
        """Policies of single keys inside a structured value."""
        return {p.path: p.policy for p in self.policies
                if p.table == table and p.column == column and p.path and holds(p.where, row)}

    def is_visitors(self, kind: str) -> bool:
        return any(k.name == kind and k.visitors for k in self.kinds)

    def with_visitors(self, patterns: tuple[str, ...]) -> Profile:
        """This profile with more kinds counted as made by visitors."""
        kinds = tuple(replace(k, visitors=True) if any(fnmatchcase(k.name, p) for p in patterns) else k
                      for k in self.kinds)
        return replace(self, kinds=kinds)
