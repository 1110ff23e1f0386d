"""Which rows keep others from something: they tie a thing to groups or roles, or hold a secret that one has to know.

In doubt a row is taken for one: then it goes with its thing, never without it, and is taken away only when it is named.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence

from nostos.core.database.schema import Row, Table
from nostos.core.learning.findings import Finding
from nostos.core.learning.parts import goals_of
from nostos.core.learning.places import is_link
from nostos.core.learning.whose import by_values
from nostos.core.profiles.conditions import Where
from nostos.core.profiles.parts import Child
from nostos.core.values import words

_SECRETS = frozenset(("password", "passwd", "pwd", "passphrase", "passcode"))
_ACCESS = words.listed("access")
_FEW_COLUMNS, _FEW_ROWS = 4, 200  # of a table of groups or roles, or of what is tied to these: little more than names


class Restrictions:
    """What is known of who may do what. accounts: tables of people who may log in. samples: rows, by table."""

    def __init__(self, tables: Mapping[str, Table], samples: Mapping[str, Sequence[Row]], sure: Sequence[Finding],
                 accounts: Collection[str]) -> None:
        self.tables = tables
        self.samples = samples
        self.accounts = {*accounts}
        self.goals = {name: goals_of(table, sure) for name, table in tables.items()}
        tied = {goal for name in self.tables if name in self.accounts or self._ties(name)
                for goal in self.goals[name].values()}
        self.groups = {n for n in tied - self.accounts if self._is_small(n)}

    def _ties(self, name: str) -> bool:
        """Whether a table only ties accounts to something."""
        goals = self.goals[name]
        return bool(self.accounts & {*goals.values()}) and is_link(self.tables[name], lambda column: column in goals)

    def _is_small(self, name: str) -> bool:
        table = self.tables.get(name)
        return table is not None and len(set(table.stored) - set(table.key)) <= _FEW_COLUMNS and len(
            self.samples.get(name, ())) <= _FEW_ROWS and not self.goals[name]

    def of(self, names: Collection[str]) -> Iterator[tuple[Child | None, tuple[str, Where]]]:
        """Of these tables: as what its rows are part of a thing, and which of them keep others from it."""
        for name in names:
            table = self.tables[name]
            if name in self.accounts or name in self.groups:
                continue
            secret = self._secret(table)
            thing = next(((c, t) for c, t in self.goals[name].items()
                          if t not in self.accounts and t not in self.groups and t != name), None)
            who = set(self.goals[name].values())
            columns = set(table.stored) - {*table.key, *self.goals[name]}
            if thing is not None and len(columns) <= _FEW_COLUMNS and (secret or who & self.groups or (
                    who & self.accounts and _ACCESS & {*words.words(name)})):
                yield Child(name, thing[0], thing[1], name, table.key, repeats=True, natural=True), (name, ())
            elif secret:
                yield None, (name, ((secret, "?*"),))

    def _secret(self, table: Table) -> str:
        """A column that holds what one has to know."""
        hashed = {column for kind, column, _ in by_values(table, self.samples.get(table.name, ())) if kind == "hash"}
        return next((c for c in table.stored if c in hashed or {*words.words(c)[-1:]} & _SECRETS), "")
