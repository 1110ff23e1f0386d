"""What a schema says by itself: kinds, references and policies for tables that no profile names."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from fnmatch import fnmatchcase

from nostos.core.database.schema import Table
from nostos.core.profiles.frameworks import of_tables
from nostos.core.profiles.model import Profile
from nostos.core.profiles.networked import networked
from nostos.core.profiles.parts import Child, FieldPolicy, Kind, Reference
from nostos.core.profiles.policies import STRUCTURE
from nostos.core.values.words import says_weakly

NO_PROFILE = Profile(name="none", title="no profile: worked out from the schema")


def complete(profile: Profile, tables: Mapping[str, Table]) -> Profile:
    """The profile with what the schema adds.

    A table that the profile does not name becomes a kind of its own. Its rows' identity is the first natural unique
    key, if there is one. Declared foreign keys become references, in named tables too.
    """
    profile = networked(profile, tables)
    named = {k.table for k in profile.kinds} | {c.table for c in profile.children} | set(profile.volatile)
    taken = {k.name for k in profile.kinds}
    kinds = list(profile.kinds)
    policies = list(profile.policies)
    references = list(profile.references)
    for table in tables.values():
        if table.name not in named and table.key:
            name = table.name if table.name not in taken else f"{table.name}-table"
            natural = next((u for u in table.uniques if set(u) != set(table.key)), ())
            title = next((c.name for c in table.columns if c.name in ("title", "name", "label")), None)
            kinds.append(Kind(name, table.name, (), table.key, title, natural if table.surrogate else table.key,
                              natural=True))
        policies.extend(FieldPolicy(table.name, c.name, STRUCTURE) for c in table.columns if c.is_json)
        for fk in table.foreign_keys:
            for column, target in zip(fk.columns, fk.target_columns, strict=False):
                known = any(r.table == table.name and r.column == column and r.to == fk.target for r in references)
                if fk.target in tables and not known:
                    info = table.column(column)
                    references.append(replace(_declared(tables, table.name, column, fk.target, target),
                                              weak=info is not None and info.nullable
                                              and says_weakly(column)))
    children = tuple(_with_owner(c, references, kinds) for c in profile.children)
    return of_tables(replace(profile, kinds=tuple(kinds), policies=tuple(policies), references=tuple(references),
                             children=children), tables)


def _declared(tables: Mapping[str, Table], table: str, column: str, target: str, target_column: str) -> Reference:
    """A foreign key as a reference to the table whose key it really carries, through chains of foreign keys."""
    seen = {(target, target_column)}
    while True:
        owner = tables[target]
        if owner.surrogate and owner.key == (target_column,):
            return Reference(table, column, to=target, declared=True)
        onward = [(fk.target, t) for fk in owner.foreign_keys
                  for c, t in zip(fk.columns, fk.target_columns, strict=False) if c == target_column]
        step = next((o for o in onward if o[0] in tables and o not in seen), None)
        if step is None:
            return Reference(table, column, to=target, to_column=target_column, declared=True)
        seen.add(step)
        target, target_column = step


def _with_owner(child: Child, references: list[Reference], kinds: list[Kind]) -> Child:
    if child.owner:
        return child
    targets = [r.to for r in references if r.table == child.table and r.column == child.of and r.to]
    owner = targets[0] if targets else kinds[0].table
    return replace(child, owner=owner)


def recognise(tables: Mapping[str, Table], profiles: Mapping[str, Profile]) -> Profile:
    """The profile whose tables are all there; NO_PROFILE when none is."""
    fitting = [p for p in profiles.values()
               if p.recognise_tables and all(any(fnmatchcase(t, w) for t in tables) for w in p.recognise_tables)]
    return max(fitting, key=lambda p: len(p.recognise_tables), default=NO_PROFILE)
