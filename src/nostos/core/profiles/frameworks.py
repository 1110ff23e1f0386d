"""What a profile says of its framework, said of the tables that there are: numbers whose table a row of types says, and
rows of other tables that are written down."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace

from nostos.core.database.schema import Table
from nostos.core.profiles.model import Profile
from nostos.core.profiles.parts import Closed, Framework, Join, Reference, WrittenRows
from nostos.core.profiles.places import Place


def of_tables(profile: Profile, tables: Mapping[str, Table]) -> Profile:
    """The profile with what it says of every table, or of those that have some columns, said of each. tables: of the
    site, by name. Said twice, nothing is added."""
    closed = tuple(one for c in profile.closed for one in _of_those(c, tables))
    kinds = tuple(replace(k, visitors=True) if k.natural and profile.whose(k.table) == "visitors" else k
                  for k in profile.kinds)
    firm = dict.fromkeys([*profile.firm_kinds, *(
        k.name for k in kinds if k.natural and profile.whose(k.table) == "visitors")])
    profile = replace(profile, closed=closed, kinds=kinds, firm_kinds=tuple(firm))
    framework = profile.framework
    if framework is not None and framework.types in tables and tables[framework.types].surrogate:
        profile = _with_models(profile, framework, tables)
    return replace(profile, references=tuple(
        replace(r, outlives=True) if r.table in profile.history else r for r in profile.references))


def _with_models(profile: Profile, framework: Framework, tables: Mapping[str, Table]) -> Profile:
    key = tables[framework.types].key[0]
    models = {names: name for names, name in model_names(framework, tables).items() if base_of(tables, name)}
    pairs = {(name, *pair) for name, table in tables.items() for pair in _pairs(framework, table)}
    written = [(w, _type_of(framework, tables[w.table])) for w in profile.written if w.table in tables]
    typed = dict.fromkeys([*sorted((t, c) for t, c, _ in pairs), *((w.table, c) for w, c in written)])
    joins = [Join(table, f"{type_}.{name}", framework.types, ((type_, key),), name)
             for table, type_ in typed for name in framework.names]
    references = [Reference(table, number, to=base_of(tables, name), where=_said(framework, type_, names))
                  for table, type_, number in sorted(pairs) for names, name in models.items()]
    if written:
        rows = _WrittenRows(profile, tables)
        references += (r for w, type_ in written for names, name in models.items()
                       for r in rows.of(w, name, _said(framework, type_, names)))
    declared = {(r.table, r.column, r.where, r.path) for r in profile.references}
    named = {(j.table, j.name) for j in profile.joins}
    paired = {table for table, _, _ in pairs}
    of_types = frozenset(n for n, t in tables.items() if n not in paired and any(
        c.endswith(framework.type) for c in t.names))
    return replace(
        profile, of_types=profile.of_types | of_types, references=(*profile.references, *dict.fromkeys(
            r for r in references if (r.table, r.column, r.where, r.path) not in declared)),
        joins=(*profile.joins, *(j for j in joins if (j.table, j.name) not in named)),
        numbers=profile.numbers | {Place(w.table, w.column, (), ("*",)) for w in profile.written})


def model_names(framework: Framework, tables: Iterable[str]) -> dict[tuple[str, ...], str]:
    """The tables of the site, by what a row of types says of each: what the framework calls it by itself, or what the
    profile says."""
    otherwise = dict(framework.tables)
    return {otherwise.get(name) or (name.rpartition(framework.between)[0], name.rpartition(framework.between)[2]): name
            for name in tables if name in otherwise or framework.between in name}


def continued(tables: Mapping[str, Table], name: str) -> Iterator[Table]:
    """A table, and those that its rows go on with, one after the other."""
    seen: set[str] = set()
    while name in tables and name not in seen:
        seen.add(name)
        yield tables[name]
        name = tables[name].continues


def base_of(tables: Mapping[str, Table], name: str) -> str:
    """The table that has given out the numbers of a table's rows, which may go on with another's; empty where there is
    none."""
    return next((t.name for t in continued(tables, name) if t.surrogate), "")


def _of_those(closed: Closed, tables: Mapping[str, Table]) -> Iterator[Closed]:
    if not closed.having:
        yield closed
    else:
        yield from (replace(closed, table=t.name, having=()) for t in tables.values()
                    if {*closed.having} <= {*t.names} and closed.column in t.names)


def _pairs(framework: Framework, table: Table) -> Iterator[tuple[str, str]]:
    """The columns of a table that point at a type, each with that which holds a number of that type's rows."""
    for column in table.names:
        if column.endswith(framework.type):
            yield from ((column, number) for end in framework.numbers
                        if (number := column.removesuffix(framework.type) + end) in table.names)


def _type_of(framework: Framework, table: Table) -> str:
    """The column that says of which type what is written down is: the one that is called just so, if there are more."""
    return min((c for c in table.names if c.endswith(framework.type)), key=len, default=framework.type)


def _said(framework: Framework, column: str, names: tuple[str, ...]) -> tuple[tuple[str, str], ...]:
    return tuple((f"{column}.{name}", model) for name, model in zip(framework.names, names, strict=True))


class _WrittenRows:
    """Where numbers stand in rows that are written down, with the rows that point at each in lists."""

    def __init__(self, profile: Profile, tables: Mapping[str, Table]) -> None:
        self.tables = tables
        self.pointing = {name: {r.column: r.to for r in profile.references_of(name) if r.is_key and not r.where}
                         for name in tables}
        self.onto: dict[str, list[str]] = {}  # by table: those whose rows point at its own
        for name, table in tables.items():
            for target in {fk.target for fk in table.foreign_keys} if table.surrogate else ():
                self.onto.setdefault(target, []).append(name)

    def of(self, written: WrittenRows, name: str, where: tuple[tuple[str, str], ...]) -> Iterator[Reference]:
        """In a row of a table. where: by which it is known that it is of that one."""
        at = Reference(written.table, written.column, to=base_of(self.tables, name), where=where, path=(written.key,))
        yield at
        chain = [*continued(self.tables, name)]
        for table in chain:
            for column, goal in self.pointing[table.name].items():
                if column not in table.key:
                    yield replace(at, to=goal, path=(column.removesuffix(written.strip),), outlives=True)
        below: dict[str, set[str]] = {}
        for part in {p for table in chain for p in self.onto.get(table.name, ())}:
            for column, goal in self.pointing[part].items():
                below.setdefault(column.removesuffix(written.strip), set()).add(goal)
        for column, goals in below.items():
            if len(goals) == 1:
                yield replace(at, to=goals.pop(), path=("*", "*", column), outlives=True)
