"""Two of one name: what both sides made apart from one another, and called alike.

Nothing is written over. What staging made comes home by the name that the system itself would have given it on live,
had it been made there; and what live made goes into staging by another name in the same way.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from fnmatch import fnmatchcase
from typing import Any

from nostos.core.anchor.names import Keys, Side
from nostos.core.anchor.rows import RowMove
from nostos.core.anchor.store import Anchor
from nostos.core.compare.file_changes import FileState
from nostos.core.compare.sides import Moves, Sides
from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row, Table, Value
from nostos.core.files.tree import FileTree
from nostos.core.profiles.conditions import holds, plain_values
from nostos.core.profiles.habits import Slug
from nostos.core.profiles.model import Profile
from nostos.core.profiles.parts import OwnedFile
from nostos.core.records import dataclass
from nostos.core.values import structures
from nostos.core.values.merging import same
from nostos.core.values.names import Names, fit

Owners = Mapping[str, tuple[str, frozenset[Value]]]  # by table: a column, and whose rows they are


def both_ways(known: Mapping[str, str]) -> dict[str, str]:
    """Paths and their other names, from either."""
    return {**known, **{new: old for old, new in known.items()}}


def renamed_files(anchor: Anchor, profile: Profile, files: list[FileState], known: Mapping[str, str],
                  trees: Mapping[Side, FileTree], staging_db: Database) -> tuple[dict[str, str], list[FileState]]:
    """Files that both sides made at one path, for things of their own. known: paths that have another name on the other
    side already. Returns all such paths, and the files with staging's by the paths that they would have on live."""
    tables = staging_db.tables()
    called = dict(known)
    by_path = {f.path: f for f in files}
    for path in [f.path for f in files if _collides(f)]:
        state = by_path.get(path)
        if state is None or not _collides(state):
            continue  # it went along with another one
        for owned in profile.files:
            value = _owner(anchor, profile, owned, path, tables, staging_db)
            family = [f for f in by_path.values() if f.base is None and f.source is not None
                      and value in owned.values(f.path)] if value else []
            pairs = _free(owned, value, family, called, trees) if value else None
            if pairs:
                for old, new in pairs.items():
                    called.update({old: new, new: old})
                    mine = by_path.pop(old)
                    if mine.target is not None:
                        by_path[old] = replace(mine, source=None, merged=None)
                    assert mine.source is not None
                    by_path[new] = FileState(new, None, None, replace(mine.source, path=new))
                break
    return called, sorted(by_path.values(), key=lambda f: f.path)


def _collides(file: FileState) -> bool:
    return (file.base is None and not file.whole and file.target is not None and file.source is not None
            and not file.target.same_as(file.source))


def _owner(anchor: Anchor, profile: Profile, owned: OwnedFile, path: str, tables: Mapping[str, Table],
           staging_db: Database) -> str:
    """What the column of the row in staging says that a file belongs to; empty where it is no new row's."""
    values = owned.values(path)
    if owned.table not in tables or not values:
        return ""
    for row in staging_db.find_any(tables[owned.table], owned.column, values, plain_values(owned.where)):
        if row[owned.column] in values and holds(owned.where, row):
            table, key = _root(profile, tables, owned.table, row)
            owner = row[owned.column]
            if isinstance(owner, str) and not anchor.has(Side.STAGING, table, key):
                return owner
    return ""


def _root(profile: Profile, tables: Mapping[str, Table], name: str, row: Row) -> tuple[str, Value]:
    child = profile.child_of(name, row)
    return (child.owner, row[child.of]) if child is not None else (name, row[tables[name].key[0]])


def _free(owned: OwnedFile, value: str, family: list[FileState], called: Mapping[str, str],
          trees: Mapping[Side, FileTree]) -> dict[str, str] | None:
    """Other paths for the files of one thing, with one number in all of them: the first that is free on both sides."""
    whole = re.sub(owned.variants, "", value) if owned.variants else value
    stem = f"{owned.folder}/{whole}".rpartition(".")[0]
    if not stem or not all(f.path.startswith(stem) and fit(f.path) for f in family):
        return None
    for number in range(1, 10_000):
        pairs = {f.path: f"{stem}-{number}{f.path[len(stem):]}" for f in family}
        if not any(p in called or t.status(p) is not None for p in pairs.values() for t in trees.values()):
            return pairs
    return None


def owners(profile: Profile, database: Database, tables: Mapping[str, Table], names: Names) -> Owners:
    """Whose rows a side keeps names of such files in, without their folders."""
    owners: dict[str, tuple[str, set[Value]]] = {}
    for owned in profile.files if names.files else ():
        table = tables.get(owned.table)
        values = {p[len(owned.folder) + 1:] for p in names.files if p.startswith(owned.folder + "/")}
        if table is None or not values:
            continue
        for row in database.find_any(table, owned.column, sorted(values), plain_values(owned.where)):
            if row[owned.column] in values and holds(owned.where, row):
                child = profile.child_of(owned.table, row)
                column = child.of if child is not None else table.key[0]
                owners.setdefault(owned.table, (column, set()))[1].add(row[column])
    return {t: (column, frozenset(keys)) for t, (column, keys) in owners.items()}


def paths_of(profile: Profile, moves: Mapping[str, list[RowMove]], names: Names, staging: bool
             ) -> dict[tuple[str, Value], str]:
    """The files that a side's changed rows name, in live's words, by the rows that they belong to."""
    paths: dict[tuple[str, Value], str] = {}
    for owned in profile.files:
        for move in moves.get(owned.table, ()):
            value = move.row.get(owned.column) if move.row is not None and holds(owned.where, move.row) else None
            if move.row is not None and isinstance(value, str):
                child = profile.child_of(owned.table, move.row)
                path = f"{owned.folder}/{value}"
                root = (child.owner, move.row[child.of]) if child is not None else (owned.table, move.key[0])
                paths[root] = names.files.get(path, path) if staging else path
    return paths


def renumbered(sides: Sides, moves: Moves) -> dict[str, dict[int, int]]:
    """Parts of settings that both sides made under one number: what each is called on the other side, by the settings'
    names; and what is known of that already."""
    numbers_of = {name: dict(numbers) for name, numbers in sides.keys[Side.STAGING].numbers.items()}
    settings, numbered = sides.profile.settings, sides.profile.numbered
    if settings is None or settings.table not in sides.both or not numbered:
        return numbers_of
    changed = {s: {str(m.row[settings.name]): m for m in moves[s].get(settings.table, ()) if m.row is not None and any(
        fnmatchcase(str(m.row[settings.name]), n.setting) for n in numbered)} for s in Side}
    for name in sorted(changed[Side.LIVE].keys() & changed[Side.STAGING].keys()):
        live, staging = (_parts(changed[s][name].row, settings.value) for s in (Side.LIVE, Side.STAGING))
        base = _parts(sides.anchor.base_row(settings.table, changed[Side.LIVE][name].key), settings.value)
        known = numbers_of.setdefault(name, {})
        for number in sorted((live.keys() & staging.keys()) - base.keys() - known.keys()):
            if not same(live[number], staging[number]):
                new = max((*live, *staging, *known)) + 1
                known.update({number: new, new: number})
    return {name: numbers for name, numbers in numbers_of.items() if numbers}


def _parts(row: Row | None, column: str) -> dict[int, Any]:
    tree = structures.read(str(row[column])) if row is not None and isinstance(row.get(column), str) else None
    data = tree.data if tree is not None else None
    return {k: v for k, v in data.items() if isinstance(k, int)} if isinstance(data, dict) else (
        dict(enumerate(data)) if isinstance(data, list) else {})


@dataclass(frozen=True)
class _Claim:
    """A row of a side that answers to a name. place: the name, and within what it must be the only one."""

    key: Value
    canonical: str
    value: str
    place: tuple[object, ...]


def give_names(sides: Sides, moves: Moves) -> Iterator[tuple[str, str]]:
    """Find names to which two things would answer, and take down in the sides' keys what they are called on either
    side. Yields what live and what staging calls each of staging's."""
    keys = sides.keys
    for slug in sides.profile.slugs:
        table = sides.both.get(slug.table)
        if table is None or not table.surrogate:
            continue
        claims = {c.place: c for c in _claims(sides, Side.LIVE, slug, moves)}
        taken: set[str] = set()
        for mine in _claims(sides, Side.STAGING, slug, moves):
            other = claims.get(mine.place)
            if other is None or other.canonical == mine.canonical or not fit(mine.value) or _had(
                    sides.anchor, slug, keys[Side.STAGING], mine):
                continue
            new = next(name for n in range(2, 10_000) if (name := f"{mine.value}-{n}") not in taken and not any(
                d.find(table, {slug.column: name}) for d in sides.databases.values()))
            taken.add(new)
            keys[Side.STAGING].call(table.name, slug.column, mine.key, new, mine.value)
            keys[Side.LIVE].call(table.name, slug.column, other.key, mine.value, new)
            yield new, mine.value


def _had(anchor: Anchor, slug: Slug, keys: Keys, claim: _Claim) -> bool:
    """Whether staging's row had this name already, so that it is live that has given it another by now."""
    known = claim.canonical if claim.canonical.isdigit() else None
    row = anchor.base_row(slug.table, (int(known),)) if known else None
    return row is not None and row.get(slug.column) == claim.value


def _claims(sides: Sides, side: Side, slug: Slug, moves: Moves) -> Iterable[_Claim]:
    keys, translator, table = sides.keys[side], sides.translators[side], slug.table
    for move in moves[side].get(table, ()):
        row = move.row
        value = row.get(slug.column) if row is not None else None
        if row is None or not isinstance(value, str) or not value or slug.excludes(row):
            continue
        if keys.called(table, slug.column, move.key[0]) is not None:
            continue  # it has another name already
        within = tuple(str(translator.value(table, row, c)) for c in slug.within)
        yield _Claim(move.key[0], keys.name(table, move.key[0]), value, (value, *within))
