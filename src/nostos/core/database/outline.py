"""Everything of a database but its rows, as data: what it takes to build it again, empty.

An outline may come out of a backup file. So the statements in it are looked at before they are run: each makes one
thing, in this database, and nothing else.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping
from dataclasses import field

from nostos.core.database.definitions import whole
from nostos.core.database.schema import Table
from nostos.core.errors import SiteError
from nostos.core.expressions import expression
from nostos.core.records import dataclass

_QUOTED = expression(r"'(?:[^'\\]|''|\\.)*'|`(?:[^`]|``)*`|\"(?:[^\"\\]|\"\"|\\.)*\"", re.DOTALL)
_DYNAMIC = expression(r"(?i)\bEXECUTE\b(?!\s+(?:FUNCTION|PROCEDURE|ON)\b)")  # of a text, as a statement
_ELSEWHERE = expression(r"\b(?:OUTFILE|DUMPFILE|LOAD_FILE|LOAD\s+DATA|DIRECTORY|CONNECTION|ATTACH|LOAD_EXTENSION)\b",
                        re.IGNORECASE)
_ENGINE = expression(r"\bENGINE\s*=\s*(\w+)", re.IGNORECASE)
_ENGINES = {"innodb", "myisam", "aria", "memory", "archive", "csv"}


@dataclass(frozen=True)
class Trigger:
    """A trigger. timing, event and body: as a server tells them; SQLite keeps the whole statement in `body`."""

    name: str
    table: str
    timing: str
    event: str
    body: str


@dataclass(frozen=True)
class Outline:
    """A database without its rows. engine: "sqlite", "mysql" or "none". database, prefix: what names in views and
    triggers bear. settings: of a SQLite file. virtual: search indexes and the like, name and statement; raw: the tables
    in which these keep what they know. counters: the next number that a table gives out.
    """

    engine: str
    database: str = ""
    prefix: str = ""
    tables: tuple[Table, ...] = ()
    settings: Mapping[str, int | str] = field(default_factory=dict)
    virtual: tuple[tuple[str, str], ...] = ()
    raw: tuple[str, ...] = ()
    views: tuple[tuple[str, str], ...] = ()
    triggers: tuple[Trigger, ...] = ()
    counters: Mapping[str, int] = field(default_factory=dict)
    before: tuple[tuple[str, str], ...] = ()  # what tables rest on: extensions, types, functions; name and statement
    leaning: tuple[tuple[str, str], ...] = ()  # functions that rest on tables, which come before them
    after: tuple[tuple[str, str], ...] = ()  # what is attached to what is there: rules, row security, comments
    rights: tuple[tuple[str, str], ...] = ()  # who may do what, where those are known; name and statement


def check_names(outline: Outline) -> None:
    """Raise SiteError when a name in an outline is empty, or stands twice."""
    names = [*(t.name for t in outline.tables), *(n for n, _ in (*outline.virtual, *outline.views)), *outline.raw]
    if len(set(names)) != len(names) or any(not n or "\0" in n for n in names):
        raise refused("a name in it is empty, or stands twice")


def bare(sql: str) -> str:
    """A statement without what is quoted in it."""
    return _QUOTED.sub("''", sql)


def makes(sql: str, engine: str, kind: str, name: str, over: Collection[str] = ()) -> None:
    """Raise SiteError unless a statement makes this one thing, as `definitions.whole` has it, in its own database."""
    whole(sql, engine, kind, name, over)
    stays_inside(sql, name, "")


def stays_inside(sql: str, name: str, database: str) -> None:
    """Raise SiteError when a statement, or a part of one, reaches out of its own database."""
    plain = bare(sql)
    engine = _ENGINE.search(plain)
    if _ELSEWHERE.search(plain) or (engine and engine.group(1).lower() not in _ENGINES):
        raise refused(f"the statement for {name} reaches out of the database")
    for other in re.findall(r"`((?:[^`]|``)*)`\.`(?:[^`]|``)*`\.`", sql):
        if database and other != database:
            raise refused(f"the statement for {name} reaches into the database {other}")


def refused(why: str) -> SiteError:
    """An error for a definition that is not carried over. why: as a clause."""
    return SiteError(f"The schema is not taken: {why}.", left="Nothing of it was made.",
                     next_step="Look at it where it comes from, or use another backup.")


def reached(triggers: Iterable[Trigger], written: Mapping[str, Collection[str]], names: Mapping[str, str],
            routines: Mapping[str, str | None] | None = None) -> set[str]:
    """The tables that triggers may change, directly or by way of each other, when tables are written. A trigger may
    change every table that its body names, or the body of a routine that it calls; every table there is where a body
    cannot be read, or runs text as a statement. written: by table, "INSERT", "UPDATE", "DELETE". names: of every
    table, as bodies write it. routines: bodies of procedures and functions, by name; None: it cannot be read."""
    every = list(triggers)
    due: set[tuple[str, str]] = {(t, event) for t, events in written.items() for event in events}
    reached: set[str] = set()
    seen: set[tuple[str, str]] = set()
    while due:
        table, event = due.pop()
        seen.add((table, event))
        for trigger in every:
            if trigger.table == table and (event in trigger.event.upper() or not trigger.event):
                body = _with_routines(trigger.body, routines or {})
                named = {*names} if body is None else {table_triggers for table_triggers, full in names.items()
                                                       if _names(full, body)}
                reached |= named
                due |= {(n, e) for n in named for e in ("INSERT", "UPDATE", "DELETE")} - seen
    return reached


def _names(name: str, body: str) -> bool:
    return re.search(rf"(?<![\w$]){re.escape(name)}(?![\w$])", body, re.IGNORECASE) is not None


def _with_routines(body: str, routines: Mapping[str, str | None]) -> str | None:
    """A body with those of all routines that it names, and they do; None where one of them says nothing."""
    whole, left = body, dict(routines)
    while called := [n for n in left if _names(n, whole)]:
        for name in called:
            more = left.pop(name)
            if more is None:
                return None
            whole += "\n" + more
    return None if _DYNAMIC.search(bare(whole)) else whole
