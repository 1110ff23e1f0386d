"""What a profile says of its framework, said of the tables that there are: numbers whose table a row of types says, and
rows of other tables that are written down."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace

from nostos.core.database.schema import Table
from nostos.core.profiles.model import Closed, Framework, Join, Profile, Reference, Written
from nostos.core.profiles.places import Place


def of_tables(profile: Profile, tables: Mapping[str, Table]) -> Profile:
    """The profile with what it says of every table, or of those that have some columns, said of each. tables: of the
    site, by name. A profile is taken only once."""
    closed = tuple(one for c in profile.closed for one in _of_those(c, tables))
    kinds = tuple(replace(k, visitors=True) if k.natural and profile.whose(k.table) == "visitors" else k
                  for k in profile.kinds)
    firm = tuple(k.name for k in kinds if k.natural and profile.whose(k.table) == "visitors")
    profile = replace(profile, closed=closed, kinds=kinds, firm_kinds=(*profile.firm_kinds, *firm))
    framework = profile.framework
    if framework is not None and framework.types in tables and tables[framework.types].surrogate:
        profile = _with_models(profile, framework, tables)
    return replace(profile, references=tuple(
        replace(r, outlives=True) if r.table in profile.history else r for r in profile.references))


def _with_models(profile: Profile, framework: Framework, tables: Mapping[str, Table]) -> Profile:
    joins: list[Join] = []
    references: list[Reference] = []
    models, key = _models(framework, tables), tables[framework.types].key[0]
    for table in tables.values():
        for type_, number in _pairs(framework, table):
            joins += _joins(framework, table.name, type_, key)
            references += (Reference(table.name, number, to=goal, where=_said(framework, type_, names))
                           for names, name in models for goal in (base_of(tables, name),) if goal)
    for written in profile.written:
        if written.table in tables:
            joins += _joins(framework, written.table, type_ := _type_of(framework, tables[written.table]), key)
            references += (found for names, name in models for found in _written(
                profile, written, tables, name, _said(framework, type_, names)))
    told = {(r.table, r.column, r.where, r.path) for r in profile.references}
    named = {(j.table, j.name) for j in profile.joins}
    of_types = frozenset(t.name for t in tables.values() if not any(_pairs(framework, t)) and any(
        c.endswith(framework.type) for c in t.names))
    return replace(
        profile, of_types=profile.of_types | of_types, references=(*profile.references, *dict.fromkeys(
            r for r in references if (r.table, r.column, r.where, r.path) not in told)),
        joins=(*profile.joins, *dict.fromkeys(j for j in joins if (j.table, j.name) not in named)),
        numbers=profile.numbers | {Place(w.table, w.column, (), ("*",)) for w in profile.written})


def model_names(framework: Framework, tables: Mapping[str, Table]) -> dict[tuple[str, ...], str]:
    """The tables of the site, by what a row of types says of each."""
    return dict(_models(framework, tables))


def _of_those(closed: Closed, tables: Mapping[str, Table]) -> Iterator[Closed]:
    if not closed.having:
        yield closed
    else:
        yield from (replace(closed, table=t.name, having=()) for t in tables.values()
                    if {*closed.having} <= {*t.names} and closed.column in t.names)


def _models(framework: Framework, tables: Mapping[str, Table]) -> list[tuple[tuple[str, ...], str]]:
    """What a row of types says of a table, and the table: as the framework calls it by itself, or as the profile says.
    """
    otherwise = dict(framework.tables)
    found = []
    for name in tables:
        said = otherwise.get(name)
        if said is None:
            head, _, tail = name.rpartition(framework.between)
            said = (head, tail) if head else None
        if said is not None:
            found.append((tuple(said), name))
    return found


def base_of(tables: Mapping[str, Table], name: str) -> str:
    """The table whose rows' numbers a table's own are, which may continue another's; empty where there is none."""
    seen = {name}
    while name in tables and not tables[name].surrogate:
        above = next((fk.target for fk in tables[name].foreign_keys if fk.columns == tables[name].key), "")
        if above in seen:
            return ""
        seen.add(above)
        name = above
    return name if name in tables else ""


def _pairs(framework: Framework, table: Table) -> Iterator[tuple[str, str]]:
    """The columns of a table that point at a type, each with that which holds a number of that type's rows."""
    for column in table.names:
        if column.endswith(framework.type):
            yield from ((column, number) for end in framework.numbers
                        if (number := column.removesuffix(framework.type) + end) in table.names)


def _type_of(framework: Framework, table: Table) -> str:
    return next((c for c in table.names if c == framework.type), next(
        (c for c in table.names if c.endswith(framework.type)), framework.type))


def _joins(framework: Framework, table: str, column: str, key: str) -> Iterator[Join]:
    for name in framework.names:
        yield Join(table, f"{column}.{name}", framework.types, ((column, key),), name)


def _said(framework: Framework, column: str, names: tuple[str, ...]) -> tuple[tuple[str, str], ...]:
    return tuple((f"{column}.{name}", said) for name, said in zip(framework.names, names, strict=True))


def _chain(tables: Mapping[str, Table], name: str) -> Iterator[Table]:
    """A table, and those that it continues."""
    seen: set[str] = set()
    while name in tables and name not in seen:
        seen.add(name)
        yield tables[name]
        name = next((fk.target for fk in tables[name].foreign_keys if fk.columns == tables[name].key), "")


def _pointing(profile: Profile, table: Table) -> dict[str, str]:
    """The columns of a table that hold numbers of one table each, and that."""
    return {r.column: r.to for r in profile.references_of(table.name) if r.is_key and not r.where}


def _written(profile: Profile, written: Written, tables: Mapping[str, Table], name: str,
             where: tuple[tuple[str, str], ...]) -> Iterator[Reference]:
    """Where numbers stand in a row of a table that is written down, with the rows that point at it in lists."""
    base = base_of(tables, name)
    if not base:
        return
    yield Reference(written.table, written.column, to=base, where=where, path=(written.key,))
    chain = [*_chain(tables, name)]
    for table in chain:
        for column, goal in _pointing(profile, table).items():
            if column not in table.key:
                yield Reference(written.table, written.column, to=goal, where=where, outlives=True,
                                path=(column.removesuffix(written.strip),))
    own = {t.name for t in chain}
    below: dict[str, set[str]] = {}
    for table in tables.values():
        pointing = _pointing(profile, table) if table.surrogate and any(
            fk.target in own for fk in table.foreign_keys) else {}
        for column, goal in pointing.items():
            below.setdefault(column.removesuffix(written.strip), set()).add(goal)
    for column, goals in below.items():
        if len(goals) == 1:
            yield Reference(written.table, written.column, to=goals.pop(), where=where, path=("*", "*", column),
                            outlives=True)
