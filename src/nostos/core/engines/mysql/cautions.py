"""What survey says about a MariaDB or MySQL database: rights, engines, character sets, version, clock."""

from __future__ import annotations

import re
import time
from collections.abc import Iterator
from fnmatch import fnmatchcase

from nostos.core.database.protocol import EngineCaution
from nostos.core.engines.mysql.reflection import REFLECTION
from nostos.core.engines.mysql.session import MysqlSession


def cautions(database: MysqlSession) -> Iterator[EngineCaution]:
    """Everything about a database that matters before a clone or a merge."""
    yield from _version_and_clock(database)
    yield from _rights(database)
    for name, engine in database.run(REFLECTION["table"], (database.name,)):
        if database.holds(name) and engine.lower() != "innodb":
            yield EngineCaution(
                f"The table {name} is kept by {engine}, which has no transactions and no snapshots.",
                "A clone reads it as it is at that moment, and a merge that fails cannot take it back there.",
                f"ALTER TABLE {name} ENGINE=InnoDB, at a quiet hour.")
    yield from _not_copied(database)
    narrow = sorted({t for t, c in database.run(
        "SELECT table_name, character_set_name FROM information_schema.columns WHERE table_schema = %s "
        "AND character_set_name IN ('utf8', 'utf8mb3', 'latin1', 'ascii')", (database.name,))
        if database.holds(t) and c})
    if narrow:
        yield EngineCaution(
            f"The character sets of {', '.join(narrow[:6])}{' and others' if len(narrow) > 6 else ''} cannot hold "
            "every character.", "A merge that brings such a text home, an emoji for example, is refused there.",
            "Convert these tables to utf8mb4, at a quiet hour.")


def _not_copied(database: MysqlSession) -> Iterator[EngineCaution]:
    label = (
        ("SELECT event_name FROM information_schema.events WHERE event_schema = %s", "Events are not copied: {}.",
         "A copy that ran them would do live's jobs a second time.", "Make them in the copy by hand to try them."),
        ("SELECT routine_name FROM information_schema.routines WHERE routine_schema = %s",
         "Procedures and functions belong to the whole database: {}.",
         "A copy in a database of its own has its own; one beside live's tables would call live's, on live's tables.",
         "Give the copy a database of its own."),
        ("SELECT table_name FROM information_schema.tables WHERE table_schema = %s "
         "AND table_type = 'SYSTEM VERSIONED'", "The server keeps the history of rows of {}.",
         "A copy, and a backup, have the rows as they are now.", "Keep the server's own backups for the history."))
    for sql, what, why, remedy in label:
        names = sorted(str(n) for (n,) in database.run(sql, (database.name,)))
        if names:
            yield EngineCaution(what.format(", ".join(names[:10]) + (" and others" if len(names) > 10 else "")), why,
                                remedy)


def _version_and_clock(database: MysqlSession) -> Iterator[EngineCaution]:
    version = database.version()
    numbers = tuple(int(n) for n in re.findall(r"\d+", version)[:2])
    least = (10, 3) if "MariaDB" in version else (5, 7)
    if numbers < least:
        yield EngineCaution(f"The server's version is {version}; Nostos is made for {least[0]}.{least[1]} and newer.",
                      "Cloning or comparing may fail with an error of the server's.",
                      "Ask for a newer server.", host=True, obstacle=True)
    clock = float(database.run("SELECT UNIX_TIMESTAMP(NOW(6))")[0][0])
    apart = abs(clock - time.time())
    if apart > 60:
        yield EngineCaution(f"The server's clock is {apart:,.0f} seconds apart from this machine's.",
                      "Times in the history and in the site's own rows will not agree.",
                      "Set both clocks by a time server.", host=True)


def _rights(database: MysqlSession) -> Iterator[EngineCaution]:
    """What the user may do here, by the server's own words."""
    have: set[str] = set()
    for (grant,) in database.run("SHOW GRANTS"):
        match = re.match(r"GRANT (.*) ON (\S+) TO", str(grant))
        if match is None:
            continue
        scope = match.group(2).replace("`", "").replace("\\", "")
        if fnmatchcase(database.name, scope.rpartition(".")[0].replace("%", "*")) and scope.endswith(".*"):
            everywhere = scope == "*.*"
            words = {w.strip() for w in match.group(1).split(",")}
            have |= {"ALL"} if "ALL PRIVILEGES" in words else words
            if everywhere and words & {"ALL PRIVILEGES", "CREATE"}:
                have.add("NEW DATABASE")
    if not have:
        return  # rights that come through a role are not told here
    lacking = [] if "ALL" in have else [r for r in ("SELECT", "INSERT", "UPDATE", "DELETE") if r not in have]
    if lacking:
        yield EngineCaution(f"The database user may not {', '.join(lacking)} in {database.name}.",
                      "Nothing can be merged home." if lacking != ["SELECT"] else "Nothing can be cloned.",
                      f"Grant {', '.join(lacking)} on {database.name}.* to the site's user.", host=True, obstacle=True)
    schema = [] if "ALL" in have else [r for r in ("CREATE", "ALTER", "INDEX") if r not in have]
    if schema:
        yield EngineCaution(f"The database user may not {', '.join(schema)} in {database.name}.",
                      "Extensions whose tables or columns are new cannot be merged home.",
                      f"Grant {', '.join(schema)} on {database.name}.* to the site's user.", host=True)
    if "NEW DATABASE" not in have:
        yield EngineCaution("The database user may not make new databases.",
                      "A staging copy's tables go into live's database, under another prefix.",
                      "Nothing; or make an empty database and name it with --database.", host=True)
