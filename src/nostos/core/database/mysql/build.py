"""The outline of a server's database, and building one from it."""

from __future__ import annotations

import re

from nostos.core.database.mysql.reflection import quote
from nostos.core.database.mysql.writing import MysqlWriting
from nostos.core.database.outline import Outline, Trigger

_NEXT = re.compile(r"^\).*\bAUTO_INCREMENT=(\d+)", re.MULTILINE)


def outline(database: MysqlWriting) -> Outline:
    """Tables, views, triggers and counters of a database, names without its prefix."""
    prefix = database.prefix
    tables = database.tables()
    counters = {name: int(found.group(1)) for name in tables if (found := _NEXT.search(database.definition(name)))}
    views = database.run("SELECT table_name, view_definition FROM information_schema.views WHERE table_schema = %s",
                         (database.name,))
    triggers = database.run(
        "SELECT trigger_name, event_object_table, action_timing, event_manipulation, action_statement "
        "FROM information_schema.triggers WHERE trigger_schema = %s ORDER BY event_object_table, action_order",
        (database.name,))
    return Outline(
        "mysql", database.name, prefix, tuple(tables.values()),
        views=tuple((n.removeprefix(prefix), str(body)) for n, body in views if database.holds(n)),
        triggers=tuple(Trigger(name, table.removeprefix(prefix), timing, event, str(body))
                       for name, table, timing, event, body in triggers if database.holds(table)),
        counters=counters)


def build(target: MysqlWriting, wanted: Outline) -> None:
    """Make the tables with their indexes, empty, under the target's own prefix."""
    target.run("SET SESSION foreign_key_checks = 0")
    for table in wanted.tables:
        target.create_table(table)


def finish(target: MysqlWriting, wanted: Outline) -> None:
    """Counters, views and triggers."""
    target.run("SET SESSION foreign_key_checks = 1")
    for name, number in wanted.counters.items():
        target.run(f"ALTER TABLE {target.real(name)} AUTO_INCREMENT = {int(number)}")
    make_views(target, wanted)
    make_triggers(target, wanted)


def make_views(target: MysqlWriting, wanted: Outline) -> None:
    # One view may rest on another that comes later.
    waiting = list(wanted.views)
    while waiting:
        left = []
        for name, body in waiting:
            try:
                target.run(f"CREATE OR REPLACE VIEW {target.real(name)} AS "
                           + _carried(wanted, target, body).replace("%", "%%"))
            except target.driver.MySQLError:
                left.append((name, body))
                if len(left) == len(waiting):
                    raise
        waiting = left


def make_triggers(target: MysqlWriting, wanted: Outline) -> None:
    for t in wanted.triggers:
        target.run(f"CREATE TRIGGER {quote(trigger_name(wanted, target, t))} {t.timing} {t.event} ON "
                   f"{target.real(t.table)} FOR EACH ROW " + _carried(wanted, target, t.body).replace("%", "%%"))


def trigger_name(wanted: Outline, target: MysqlWriting, trigger: Trigger) -> str:
    """What a trigger is called in the target: names of triggers are unique a database, not a table."""
    same = wanted.database != target.name or wanted.prefix == target.prefix
    return trigger.name if same else f"{target.prefix}{trigger.name.removeprefix(wanted.prefix)}"


def _carried(wanted: Outline, target: MysqlWriting, body: str) -> str:
    """The body of a view or trigger with its tables' names as they are in the target."""
    body = body.replace(f"`{wanted.database}`.", f"`{target.name}`.")
    if wanted.prefix != target.prefix:
        body = re.sub(rf"\b{re.escape(wanted.prefix)}(?=\w)", target.prefix, body)
    return body
