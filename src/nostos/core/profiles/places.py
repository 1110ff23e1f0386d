"""Where a number stands in a database: a column, or a path inside its values."""

from __future__ import annotations

import re

from nostos.core.records import dataclass


@dataclass(frozen=True)
class Place:
    """Where a number stands: a column, for rows of one kind (where), at a path inside its structure."""

    table: str
    column: str
    where: tuple[tuple[str, str], ...] = ()
    path: tuple[str, ...] = ()

    def at(self, path: tuple[str, ...]) -> Place:
        """The place at a path inside, the numbers of entries standing as `*`."""
        return Place(self.table, self.column, self.where, tuple(re.sub(r"^\d+(?=@|$)", "*", step) for step in path))

    def __str__(self) -> str:
        rows = "".join(f"[{column}={_quoted(value, '/[]%')}]" for column, value in self.where)
        inner = "".join(f"/{_quoted(step, '/%')}" for step in self.path)
        return f"{self.table}.{self.column}{rows}{inner}"

    @classmethod
    def parse(cls, text: str) -> Place:
        """Raises ValueError for what is no place."""
        head, *steps = text.split("/")
        name, *rows = head.split("[")
        table, dot, column = name.partition(".")
        where = tuple((c, _unquoted(v)) for c, mark, v in (r.rstrip("]").partition("=") for r in rows) if mark)
        if not dot or not table or not column or len(where) != len(rows):
            raise ValueError(f"{text!r} is not written like table.column, table.column[key=value] or table.column/a/b")
        return cls(table, column, where, tuple(_unquoted(step) for step in steps))


def _quoted(part: str, marks: str) -> str:
    """A part of a place as it is written between others: these marks as in a URL."""
    return "".join(f"%{ord(c):02X}" if c in marks else c for c in part)


def _unquoted(part: str) -> str:
    return re.sub(r"%(2F|5B|5D|25)", lambda m: chr(int(m.group(1), 16)), part)
