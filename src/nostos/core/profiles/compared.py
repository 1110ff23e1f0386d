"""Which tables and rows are compared at all."""

from __future__ import annotations

from collections.abc import Mapping

from nostos.core.database.schema import Row, Table
from nostos.core.patterns import matches
from nostos.core.profiles.model import Profile

OWN_TABLES = ("nostos_*",)
TOPS = "tops"  # what the anchor remembers of tables that are not compared: the highest number given out in each


def compared_tables(profile: Profile, tables: Mapping[str, Table]) -> dict[str, Table]:
    """The tables whose rows are compared: not volatile or made ones, not Nostos's own, none without a key."""
    return {n: t for n, t in tables.items()
            if t.key and not matches(n, (*profile.volatile, *profile.made, *OWN_TABLES))}


class Locals:
    """Whether rows are local, by their tables where that is the same for all rows of one."""

    def __init__(self, profile: Profile) -> None:
        self._profile = profile
        self._always: dict[str, bool] = {}
        settings = profile.settings
        self._depends = {
            *(k.table for k in profile.kinds if k.where), *(c.table for c in profile.children if c.where),
            *(p.table for p in profile.policies if p.where), *(settings.tables if settings is not None else ())}

    def depends(self, table: str) -> bool:
        """Whether it hangs on what is in a row."""
        return table in self._depends

    def always(self, table: Table) -> bool:
        """Whether all rows of a table are local, where it does not hang on them."""
        known = self._always.get(table.name)
        if known is None:
            known = self._always[table.name] = is_local(self._profile, table, dict.fromkeys(table.names))
        return known

    def is_local(self, table: Table, row: Row) -> bool:
        """Whether a row is each side's own, so that it is neither compared nor carried."""
        return is_local(self._profile, table, row) if self.depends(table.name) else self.always(table)


def is_local(profile: Profile, table: Table, row: Row) -> bool:
    """Whether nothing in a row is ever compared, for its values are local or volatile."""
    kind = profile.kind_of(table.name, row)
    if kind is not None and kind.volatile and profile.child_of(table.name, row) is None:
        return True
    settings = profile.settings
    if settings is not None and table.name in settings.tables:
        return not profile.policy(table.name, row, settings.value).compared
    child = profile.child_of(table.name, row)
    naming = {*table.key, *(kind.identity if kind else ()), *(kind.label if kind else ()),
              *((child.of, *child.label) if child else ())}
    policies = []
    for column in row:
        if column not in naming and table.column(column):
            policy = profile.policy(table.name, row, column)
            if policy.compared:
                return False
            policies.append(policy)
    return bool(policies) and not all(p.recomputed for p in policies)
