"""The outline of a server's database, and building one from it."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager, suppress

from nostos.core.database.outline import Outline, Trigger
from nostos.core.engines.mysql.reflection import NEXT, in_quotes, keys_by_name, quote, renamed
from nostos.core.engines.mysql.writing import MysqlWriting
from nostos.core.expressions import expression

_DEFINER = expression(r"^CREATE DEFINER=\S+ ")
_HOW = expression(r"((?:ALGORITHM=\w+)?(?: ?SQL SECURITY \w+)?) VIEW (?=\S)")
_NAMED = expression(r"^CREATE SEQUENCE `(?:[^`]|``)*`")
_MODE = "mode of "  # what the settings say of routines and triggers


def outline(database: MysqlWriting) -> Outline:
    """Tables, routines, views, triggers and counters of a database, names without its prefix."""
    prefix = database.prefix
    tables = database.tables()
    counters = {name: int(match.group(1)) for name in tables if (match := NEXT.search(database.definition(name)))}
    kinds = dict(database.run("SELECT table_name, table_type FROM information_schema.tables WHERE table_schema = %s",
                              (database.name,)))
    sequences = [str(n) for n, kind in kinds.items() if kind == "SEQUENCE" and database.holds(n)]
    before = []
    for name in sequences:
        before.append((name, str(database.run(f"SHOW CREATE SEQUENCE {quote(name)}")[0][1])))
        following = database.run(f"SELECT next_not_cached_value FROM {quote(name)}")[0][0]
        counters[name.removeprefix(prefix)] = int(following)
    routines = list(_routines(database))
    before += [(name, sql) for name, sql, _ in routines]
    modes = {f"{_MODE}{name}": mode for name, _, mode in routines}
    triggers = database.run(
        "SELECT trigger_name, event_object_table, action_timing, event_manipulation, action_statement, sql_mode "
        "FROM information_schema.triggers WHERE trigger_schema = %s ORDER BY event_object_table, action_order",
        (database.name,))
    return Outline(
        "mysql", database.name, prefix, tuple(tables.values()),
        views=tuple((n.removeprefix(prefix), statement) for n, statement in _views(database) if database.holds(n)),
        triggers=tuple(Trigger(name, table.removeprefix(prefix), timing, event, str(body))
                       for name, table, timing, event, body, _ in triggers if database.holds(table)),
        counters=counters, before=tuple(before),
        settings={**modes, **{f"{_MODE}{name}": str(mode) for name, table, *_, mode in triggers
                              if database.holds(table)}})


def _routines(database: MysqlWriting) -> Iterator[tuple[str, str, str]]:
    """Functions and procedures, as statements that make them for whoever runs them, and in which mode they are read."""
    for name, kind in database.run("SELECT routine_name, routine_type FROM information_schema.routines "
                                   "WHERE routine_schema = %s AND routine_type IN ('FUNCTION', 'PROCEDURE') "
                                   "ORDER BY routine_type, routine_name", (database.name,)):
        _, mode, statement, *_ = database.run(f"SHOW CREATE {kind} {quote(name)}")[0]
        if statement is not None:  # else whoever asks may not read it
            yield str(name), _DEFINER.sub("CREATE ", str(statement), count=1), str(mode)


@contextmanager
def _reading_as(target: MysqlWriting, wanted: Outline, name: str) -> Iterator[None]:
    """Let the server read a body in the mode in which it was written: quotation marks and bars mean another thing in
    others."""
    mode = wanted.settings.get(f"{_MODE}{name}")
    session_mode = target.run("SELECT @@SESSION.sql_mode")[0][0]
    if mode is not None:
        target.run("SET SESSION sql_mode = %s", (str(mode),))
    try:
        yield
    finally:
        target.run("SET SESSION sql_mode = %s", (session_mode,))


def _views(database: MysqlWriting) -> Iterator[tuple[str, str]]:
    """Views, with what is said of them besides what they read, where it is not what it is by itself."""
    columns = {str(c).lower() for (c,) in database.run(
        "SELECT column_name FROM information_schema.columns WHERE table_schema = 'information_schema' "
        "AND table_name = 'VIEWS'")}
    way = "algorithm" if "algorithm" in columns else "'UNDEFINED'"
    for name, body, check, security, algorithm in database.run(
            f"SELECT table_name, view_definition, check_option, security_type, {way} FROM information_schema.views "
            "WHERE table_schema = %s", (database.name,)):
        how = " ".join(word for word, so in ((f"ALGORITHM={algorithm}", algorithm != "UNDEFINED"),
                                             (f"SQL SECURITY {security}", security != "DEFINER")) if so)
        checked = f" WITH {check} CHECK OPTION" if check in ("CASCADED", "LOCAL") else ""
        yield str(name), f"{how}{' VIEW ' if how else ''}{body}{checked}"


def parted(body: str) -> tuple[str, str]:
    """What is said of a view before its name, and what it reads."""
    match = _HOW.match(body)
    return (match.group(1), body[match.end():]) if match else ("", body)


def build(target: MysqlWriting, wanted: Outline) -> None:
    """Make the tables with their indexes, empty, under the target's own prefix."""
    target.run("SET SESSION foreign_key_checks = 0")
    if target.beside is None:
        _make_routines(target, wanted)
    for table in wanted.tables:
        target.create_table(table)


def _make_routines(target: MysqlWriting, wanted: Outline) -> None:
    """Sequences, and in a database of its own functions and procedures: in live's own these are there."""
    names = set(target.all_names())
    made = {str(n) for (n,) in target.run("SELECT routine_name FROM information_schema.routines WHERE routine_schema = "
                                          "%s", (target.name,))}
    for name, sql in wanted.before:
        if sql.startswith("CREATE SEQUENCE"):
            real_name = target.prefix + name.removeprefix(wanted.prefix)
            if real_name not in names:
                target.run_one(f"CREATE SEQUENCE `{real_name}` {_NAMED.sub('', sql, count=1)}")
        elif name not in made:
            # The server may not let us; what rests on it says so.
            with suppress(target.driver.MySQLError), _reading_as(target, wanted, name):
                target.run_one(_carried(wanted, target, sql))


def finish(target: MysqlWriting, wanted: Outline) -> None:
    """Counters, views and triggers."""
    target.run("SET SESSION foreign_key_checks = 1")
    sequences = {name.removeprefix(wanted.prefix) for name, sql in wanted.before if sql.startswith("CREATE SEQUENCE")}
    for name, number in wanted.counters.items():
        if name in sequences:
            place = quote((target.prefix if target.beside is None else target.beside) + name)
            target.run(f"SELECT SETVAL({place}, {int(number)}, 0)")  # never back, by itself
        else:
            target.run(f"ALTER TABLE {target.real(name)} AUTO_INCREMENT = {int(number)}")
    make_views(target, wanted)
    make_triggers(target, wanted)


def make_views(target: MysqlWriting, wanted: Outline) -> None:
    # One view may rest on another that comes later.
    waiting = list(wanted.views)
    while waiting:
        left = []
        for name, body in waiting:
            how, statement = parted(body)
            try:
                target.run_one(f"CREATE OR REPLACE {how} VIEW {in_quotes(target.prefix + name)} AS "
                               + _carried(wanted, target, statement))
            except target.driver.MySQLError:
                left.append((name, body))
                if len(left) == len(waiting):
                    raise
        waiting = left


def make_triggers(target: MysqlWriting, wanted: Outline) -> None:
    for t in wanted.triggers:
        name, table = in_quotes(trigger_name(wanted, target, t)), in_quotes(target.prefix + t.table)
        with _reading_as(target, wanted, t.name):
            target.run_one(f"CREATE TRIGGER {name} {t.timing} {t.event} ON {table} FOR EACH ROW "
                           + _carried(wanted, target, t.body))


def name_keys(database: MysqlWriting, wanted: Outline) -> None:
    """Give foreign keys the names that they had, once the tables that had these are out of the way."""
    database.run("SET SESSION foreign_key_checks = 0")
    for table in wanted.tables:
        now = keys_by_name(database.definition(table.name))
        for name, line in keys_by_name(renamed(table.ddl, "", database.prefix, table.name)).items():
            other = next((n for n, text in now.items() if text == line), None)
            if other is not None and name not in now:
                database.run_one(f"ALTER TABLE {in_quotes(database.prefix + table.name)} DROP FOREIGN KEY `{other}`, "
                                 f"ADD CONSTRAINT `{name}` {line}")
    database.run("SET SESSION foreign_key_checks = 1")


def drop_keys(database: MysqlWriting) -> None:
    """Take the foreign keys off tables that were replaced, so that their names are free."""
    for name in database.tables():
        for key in keys_by_name(database.definition(name)):
            database.run_one(f"ALTER TABLE {in_quotes(database.prefix + name)} DROP FOREIGN KEY `{key}`")


def trigger_name(wanted: Outline, target: MysqlWriting, trigger: Trigger) -> str:
    """What a trigger is called in the target: names of triggers are unique a database, not a table."""
    same = wanted.database != target.name or wanted.prefix == target.prefix
    return trigger.name if same else f"{target.prefix}{trigger.name.removeprefix(wanted.prefix)}"


def _carried(wanted: Outline, target: MysqlWriting, body: str) -> str:
    """The body of a view, trigger or routine with its tables' names as they are in the target."""
    old, new = wanted.prefix, target.prefix
    names = sorted((*(t.name for t in wanted.tables), *(n for n, _ in wanted.views)), key=len, reverse=True)
    every = "|".join(re.escape(n.replace("`", "``")) for n in names)
    where = re.escape(f"`{wanted.database}`.")
    if every and old != new:  # by their full names, as views have them
        body = re.sub(rf"{where}`{re.escape(old)}({every})`", lambda m: f"`{target.name}`.`{new}{m.group(1)}`", body)
    body = body.replace(f"`{wanted.database}`.", f"`{target.name}`.")
    if old == new:
        return body
    if old:
        return re.sub(rf"\b{re.escape(old)}(?=\w)", new, body)
    if not every:
        return body
    # Without a prefix to know them by: by where a statement names tables, and wherever else no column has that name.
    columns = {c.lower() for t in wanted.tables for c in t.names}
    body = re.sub(rf"(?i)(\b(?:FROM|INTO|UPDATE|JOIN|TABLE)\s+`?)({every})\b",
                  lambda m: m.group(1) + new + m.group(2), body)
    return re.sub(rf"(?<![\w.$])(`?)({every})\b(?!\()",
                  lambda m: m.group(0) if m.group(2).lower() in columns else m.group(1) + new + m.group(2), body)
