"""Which rows that the two sides bore apart are the same thing."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from nostos.core.anchor.names import CanonicalName, Origin, Side
from nostos.core.compare.portable import Portable, Translator, plain
from nostos.core.compare.row_states import T, base_key, canonical_key
from nostos.core.compare.sides import Moves, Sides
from nostos.core.database.schema import Row, Table, Value
from nostos.core.profiles.model import Profile
from nostos.core.values import structures
from nostos.core.values.merging import same


def by_identity(profile: Profile, tables: Mapping[str, Table]) -> list[str]:
    """Tables with surrogate keys, those first whose identities rest on no other table's rows."""
    order: list[str] = []
    rest = {n for n, t in tables.items() if t.surrogate}
    pointing = {(r.table, r.column): r.to for r in profile.references if r.to and r.to_column is None and not r.pattern}
    while rest:
        ready = [n for n in sorted(rest) if not _rests_on(profile, n, pointing) & (rest - {n})]
        order.extend(ready or sorted(rest))
        rest -= set(ready or rest)
    return order


def _rests_on(profile: Profile, table: str, pointing: Mapping[tuple[str, str], str]) -> set[str]:
    return {pointing[table, c] for c in _identity_columns(profile, table) if (table, c) in pointing}


def _identity_columns(profile: Profile, table: str) -> set[str]:
    children = {c for child in profile.children if child.table == table for c in (child.of, *child.label)}
    return children | {c for k in profile.kinds if k.table == table for c in k.identity}


class Matcher:
    """Finds rows born apart that are the same thing, by identity, and gives them one canonical name."""

    def __init__(self, sides: Sides, moves: Moves, paths: Mapping[Side, Mapping[tuple[str, Value], str]]) -> None:
        self.profile, self.anchor, self.tables = sides.profile, sides.anchor, sides.both
        self.keys, self.translators, self.base = sides.keys, sides.translators, sides.base
        self.moves, self.paths = moves, paths
        self._by_key: dict[tuple[Side, str], dict[Value, Row]] = {}

    def match(self, table: str) -> None:
        """Find the rows of one table that are the same thing on both sides, and claim one name for each pair."""
        here, unmatched = (self.moves[s].get(table, ()) for s in (Side.LIVE, Side.STAGING))
        if not any(m.born for m in unmatched) and not (any(m.row is None for m in here) and any(m.born for m in here)):
            return  # what live alone has gained is nothing else
        removed = {s: self._group(table, self._removed(s, table)) for s in Side}
        for side in Side:
            for identity, matches in self._group(table, self._born(side, table)).items():
                gone = removed[side].get(identity, [])
                if len(matches) == 1 and len(gone) == 1:  # deleted and made anew on one side
                    self.keys[side].claim(table, matches[0], gone[0])
        live = self._group(table, self._born(Side.LIVE, table))
        for identity, matches in self._group(table, self._born(Side.STAGING, table)).items():
            others = live.get(identity, [])
            if len(matches) == 1 and len(others) == 1:
                if self._agree(table, others[0], matches[0]):
                    self._same(table, others[0], matches[0])
            elif others:
                self._alike(table, others, matches)

    def _same(self, table: str, live: Value, staging: Value) -> None:
        """Two rows born apart are one thing, which goes by live's name."""
        if CanonicalName.parse(self.keys[Side.STAGING].name(table, staging)).origin is Origin.STAGING:
            self.keys[Side.STAGING].claim(table, staging, self.keys[Side.LIVE].name(table, live))

    def _agree(self, table: str, live: Value, staging: Value) -> bool:
        """Whether two rows born apart, of one name, are one thing. Where only the schema says that the name is one,
        whatever else they hold must not speak against it: two sides may have given out one name to two things. What has
        another file is another thing."""
        files = [self.paths[side].get((table, key)) for side, key in ((Side.LIVE, live), (Side.STAGING, staging))]
        if files[0] != files[1]:
            return False
        forms = [self._row_of(side, table, key) for side, key in ((Side.LIVE, live), (Side.STAGING, staging))]
        kind = self.profile.kind_of(table, forms[0])
        if kind is None or not kind.natural or self.profile.child_of(table, forms[0]) is not None:
            return True
        mine, theirs = (self.translators[side].row(table, row) for side, row in zip(
            (Side.LIVE, Side.STAGING), forms, strict=True))
        skip = {*self.tables[table].key, *kind.identity}
        return all(same(mine[c], theirs[c]) or mine[c] in (None, "") or theirs[c] in (None, "")
                   or not self.profile.policy(table, forms[0], c).compared
                   for c in mine.keys() & theirs.keys() - skip)

    def _row_of(self, side: Side, table: str, key: Value) -> Row:
        known = self._by_key.get((side, table))
        if known is None:
            known = self._by_key[side, table] = {m.key[0]: m.row for m in self.moves[side][table] if m.row is not None}
        return known[key]

    def _alike(self, table: str, live: list[Value], staging: list[Value]) -> None:
        """Rows that repeat under one name are a multiset: those with the same content are one thing, pair by pair."""
        forms: dict[str, list[Value]] = {}
        for key in live:
            forms.setdefault(self._content(Side.LIVE, table, key), []).append(key)
        for key in staging:
            equal = forms.get(self._content(Side.STAGING, table, key))
            if equal:
                self._same(table, equal.pop(0), key)

    def _content(self, side: Side, table: str, key: Value) -> str:
        form = self.translators[side].row(table, self._row_of(side, table, key))
        return repr([(c, plain(form)[c]) for c in form if c not in self.tables[table].key])

    def _born(self, side: Side, table: str) -> Iterable[tuple[Value, Row, Portable]]:
        for move in self.moves[side].get(table, ()):
            if move.born and move.row is not None:
                full = self.translators[side].full(table, move.row)
                yield move.key[0], full, self._form(self.translators[side], table, full)

    def _removed(self, side: Side, table: str) -> Iterable[tuple[str, Row, Portable]]:
        for move in self.moves[side].get(table, ()):
            if move.row is None:
                name = canonical_key(self.tables[table], move, self.keys[side], self.translators[side])
                key = base_key(self.tables[table], name, self.base)
                row = self.anchor.base_row(table, key) if key else None
                if row is not None:
                    full = self.base.full(table, row)
                    yield str(name[0]), full, self._form(self.base, table, full)

    def _form(self, translator: Translator, table: str, full: Row) -> Portable:
        """The columns that identities are made of, in portable form."""
        return {c: translator.value(table, full, c) for c in _identity_columns(self.profile, table) if c in full}

    def _group(self, table: str, rows: Iterable[tuple[T, Row, Portable]]) -> dict[tuple[object, ...], list[T]]:
        groups: dict[tuple[object, ...], list[T]] = {}
        for key, row, form in rows:
            identity = self._identity(table, row, form)
            if identity is not None:
                groups.setdefault(identity, []).append(key)
        return groups

    def _identity(self, table: str, row: Row, form: Portable) -> tuple[object, ...] | None:
        child = self.profile.child_of(table, row)
        if child:
            return None if child.repeats else tuple(form.get(c) for c in (child.of, *child.label))
        kind = self.profile.kind_of(table, row)
        if kind is None or not kind.identity:
            return None
        values = tuple(form.get(c, row.get(c)) for c in kind.identity)
        if any(v is None or v == "" for v in values):  # NULL equals nothing, and what has no name is nothing's like
            return None
        # An account is one whatever its role: what names it is unique for its table.
        name = table if kind.account else kind.named(row)
        return (name, *(v.text() if isinstance(v, structures.StructuredValue) else v for v in values))
