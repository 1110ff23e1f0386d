"""Definitions that come from elsewhere, looked at before they are carried out: each defines one thing, and ends there.

What a database says of itself may be a lie: a file's schema can be written to by whoever runs code in it, and a host
that is asked may answer what it likes. So no text of a definition is run that could be anything else.
"""

from __future__ import annotations

import re

from nostos.core.database.outline import bare, makes
from nostos.core.errors import SiteError

_COMMENT = re.compile(r"--\s|/\*")
_OPENING, _CLOSING = "([{", ")]}"


def whole(sql: str, what: str, name: str) -> str:
    """A statement that makes one thing, as `makes` has it, and nothing after it, but for what a trigger does. Raises
    SiteError for any other."""
    try:
        makes(sql, what, name)
    except SiteError:
        raise _refused(name, "it makes something else") from None
    if what != "TRIGGER" and ";" in bare(sql).rstrip().rstrip(";"):
        raise _refused(name, "something follows it")
    return sql


def part(sql: str, name: str) -> str:
    """A part of a statement, such as a column's type, its default, or a constraint: it ends nothing, opens nothing that
    it does not close, and begins nothing else. name: of what it is, for people. Raises SiteError for any other."""
    plain = bare(sql)
    depth = 0
    for character in plain:
        depth += (character in _OPENING) - (character in _CLOSING)
        if depth < 0 or character == ";" or (character == "," and not depth):
            raise _refused(name, "it goes on with something else")
    if depth or _COMMENT.search(plain) or plain.count("'") % 2 or '"' in plain or "`" in plain:
        raise _refused(name, "it does not come to its end")
    return sql


def _refused(name: str, why: str) -> SiteError:
    return SiteError(f"The definition of {name} is not carried out: {why}.", left="Nothing of it was done.",
                     next_step="Look at it where it comes from: no database writes one like that by itself.")
