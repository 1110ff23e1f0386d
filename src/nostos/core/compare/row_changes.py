"""What each side changed since the anchor, row by row, in portable form.

Rows are fetched only where digests differ. Rows born apart are matched by identity, so that from here on a row has one
canonical name whatever its keys on the two sides are.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from concurrent.futures import ThreadPoolExecutor
from copy import copy
from dataclasses import dataclass, field, replace
from functools import partial
from typing import TypeVar

from nostos.core.anchor.names import CanonicalName, Keys, Origin, RowName, Side, canonical, of_anchor
from nostos.core.anchor.store import Anchor, RowMove
from nostos.core.clone.masking import Mask, Recipe
from nostos.core.compare.portable import Portable, Translator, Unresolved, Writer, plain
from nostos.core.database.protocol import Block, Database
from nostos.core.database.schema import Key, Row, Table, Value
from nostos.core.patterns import matches
from nostos.core.profiles.model import COMPARED, FieldPolicy, Join, Policy, Profile, holds
from nostos.core.sites.recognise import Site
from nostos.core.values import structures
from nostos.core.values.urls import UrlForms

OWN_TABLES = ("nostos_*",)
T = TypeVar("T")


@dataclass(frozen=True)
class RowState:
    """A row that is not the same everywhere: its three versions in portable form (None: there is none).

    name: its canonical key. live_raw, staging_raw: as the sides have it, with their keys. stale: keys under which a
    side had the row before it was deleted there and made anew.
    """

    table: str
    name: Key
    base: Portable | None
    live: Portable | None
    staging: Portable | None
    live_raw: Row | None
    staging_raw: Row | None
    moved: frozenset[Side]
    live_key: Key | None
    staging_key: Key | None
    stale: tuple[tuple[Side, Key], ...] = ()
    live_digest: bytes | None = None
    staging_digest: bytes | None = None
    joined: Row = field(default_factory=dict)  # what it is joined to, for telling its kind

    @property
    def id(self) -> RowName:
        return self.table, self.name

    def version(self) -> Portable:
        """Any version there is, staging's first: for naming things."""
        found = self.staging or self.live or self.base
        assert found is not None
        return found


@dataclass
class Rows:
    """All rows that are not the same everywhere, with what is needed to read and write values on either side."""

    profile: Profile
    live_tables: dict[str, Table]
    staging_tables: dict[str, Table]
    anchor_tables: dict[str, Table]
    states: dict[RowName, RowState]
    live_keys: Keys
    staging_keys: Keys
    to_portable: dict[Side, Translator]
    base_translator: Translator
    live_urls: UrlForms
    live_prefix: str = ""
    staging_prefix: str = ""
    skipped: list[str] = field(default_factory=list)  # tables without a key
    keep_keys: bool = False  # rows that come back keep the numbers that they had
    mask: Mask | None = None  # how staging's rows are masked, if they are
    masks: bool = False  # what is written is masked, for it is staging that is written to

    def dropped(self, name: str) -> set[str]:
        """The columns of a table that the anchor knows and one side has no more."""
        sides = [t.get(name) for t in (self.live_tables, self.staging_tables)]
        known = self.anchor_tables.get(name)
        return {c for c in known.names if any(t is not None and t.column(c) is None for t in sides)} if known else set()

    def table(self, name: str) -> Table:
        return self.live_tables.get(name) or self.staging_tables[name]


def effective_profile(site: Site, tables: Mapping[str, Table]) -> Profile:
    """The site's profile with what the schema adds and with its guards made local."""
    profile = site.full_profile(tables)
    settings = profile.settings
    if settings is None:
        return profile
    local = []
    for name in filter(None, (*profile.guards, *site.guards, profile.gate_setting)):
        head, _, inner = name.partition(".")
        local.append(FieldPolicy(settings.table, settings.value, Policy.LOCAL, ((settings.name, name),)))
        if inner:
            local.append(FieldPolicy(settings.table, settings.value, Policy.LOCAL, ((settings.name, head),),
                                     tuple(inner.split("."))))
    return replace(profile, policies=(*local, *profile.policies))


def compared_tables(profile: Profile, tables: Mapping[str, Table]) -> dict[str, Table]:
    """The tables whose rows are compared: not volatile ones, not Nostos's own, none without a key."""
    return {n: t for n, t in tables.items()
            if t.key and not matches(n, profile.volatile) and not matches(n, OWN_TABLES)}


def is_local(profile: Profile, table: Table, row: Row) -> bool:
    """Whether nothing in a row is ever compared, for its values are local or volatile."""
    kind = profile.kind_of(table.name, row)
    if kind is not None and kind.volatile and profile.child_of(table.name, row) is None:
        return True
    settings = profile.settings
    if settings is not None and settings.table == table.name:
        return profile.policy(table.name, row, settings.value) not in COMPARED
    child = profile.child_of(table.name, row)
    naming = {*table.key, *(kind.identity if kind else ()), *(kind.label if kind else ()),
              *((child.of, *child.label) if child else ())}
    policies = {profile.policy(table.name, row, c) for c in row if c not in naming and table.column(c)}
    return bool(policies) and not policies & COMPARED and not policies <= {Policy.DERIVED}


def compare_rows(anchor: Anchor, live: Site, live_db: Database, staging: Site, staging_db: Database) -> Rows:
    """Find every row that is not the same on live, in staging and at the anchor."""
    live_all, staging_all = live_db.tables(), staging_db.tables()
    profile = effective_profile(live, {**staging_all, **live_all})
    live_tables, staging_tables = compared_tables(profile, live_all), compared_tables(profile, staging_all)
    keys = {Side.LIVE: anchor.keys(Side.LIVE), Side.STAGING: anchor.keys(Side.STAGING)}
    urls = {Side.LIVE: UrlForms(live.url), Side.STAGING: UrlForms(staging.url, also=(live.url,))}
    tables = {Side.LIVE: live_tables, Side.STAGING: staging_tables}
    both = {**staging_tables, **live_tables}
    databases = {Side.LIVE: live_db, Side.STAGING: staging_db}
    joins = {Side.LIVE: Joins(profile, live_db, live_all, staging_db, partial(anchor.has, Side.LIVE)),
             Side.STAGING: Joins(profile, staging_db, staging_all, live_db, partial(anchor.has, Side.STAGING))}
    base = Translator(profile, both, urls[Side.LIVE], anchor.keys(Side.LIVE), live_db.prefix, joins[Side.LIVE])
    translators = {s: Translator(profile, both, urls[s], keys[s], databases[s].prefix, joins[s]) for s in Side}

    moves: dict[Side, dict[str, list[RowMove]]] = {s: {} for s in Side}
    blocks = _blocks(anchor, databases, tables)
    for side, database in databases.items():
        for name, table in tables[side].items():
            found = [m for m in list(anchor.moves(side, database, table, blocks[side].get(name)))
                     if m.row is None or not is_local(profile, table, translators[side].full(name, m.row))]
            moves[side][name] = _apart(profile, anchor, translators[side], side, table, found)
    matcher = _Matcher(profile, both, anchor, keys, translators, base, moves)
    for name in _by_identity(profile, both):
        matcher.match(name)

    said = Recipe.of(anchor.fact("mask"))
    mask = Mask(said, profile, both) if said else None
    states: dict[RowName, RowState] = {}
    for name, table in both.items():
        found_rows: dict[Key, dict[Side, RowMove]] = {}
        stale: dict[Key, list[tuple[Side, Key]]] = {}
        for side in Side:
            for move in moves[side].get(name, ()):
                canonical = _canonical(table, move, keys[side], translators[side])
                mine = found_rows.setdefault(canonical, {})
                other = mine.get(side)
                if other is not None:  # deleted and made anew: it is there, under another key
                    gone, move = (other, move) if other.row is None else (move, other)
                    stale.setdefault(canonical, []).append((side, gone.key))
                mine[side] = move
        for canonical, mine in found_rows.items():
            state = _state(name, table, canonical, mine, anchor, translators, base, mask)
            if state is not None:
                states[state.id] = replace(state, stale=tuple(stale.get(canonical, ())))
    unkeyed = [n for n, t in {**staging_all, **live_all}.items() if not t.key and n not in profile.volatile]
    return Rows(profile, live_all, staging_all, anchor.tables(Side.LIVE), states, keys[Side.LIVE],
                keys[Side.STAGING], translators, base, urls[Side.LIVE], live_db.prefix,
                staging_db.prefix, unkeyed, mask=mask)


def _blocks(anchor: Anchor, databases: Mapping[Side, Database],
            tables: Mapping[Side, Mapping[str, Table]]) -> dict[Side, dict[str, dict[int, Block]]]:
    """The digests of all blocks, where servers compute them: of both sides at once."""
    if not all(d.computes for d in databases.values()):
        return {s: {} for s in Side}
    wanted = {s: [(t, anchor.columns(s, t)) for t in tables[s].values()] for s in Side}

    def ask(side: Side) -> dict[str, dict[int, Block]]:
        return {t.name: databases[side].blocks(t, columns) for t, columns in wanted[side]}

    with ThreadPoolExecutor(len(Side)) as pool:
        return dict(zip(Side, pool.map(ask, Side), strict=True))


def _apart(profile: Profile, anchor: Anchor, translator: Translator, side: Side, table: Table,
           found: list[RowMove]) -> list[RowMove]:
    """Register births, and take apart rows whose key was given out again to another thing."""
    result = []
    keys = translator.keys
    for move in found:
        key = move.key[0]
        if not table.surrogate:
            result.append(move)
        elif move.born and move.row is not None:
            _birth(keys, side, table.name, key)
            result.append(move)
        else:
            name = keys.name(table.name, key)
            if CanonicalName.parse(name).origin is Origin.GUARDS:
                continue  # staging's own, whatever becomes of it
            known = of_anchor(name)
            old = anchor.base_row(table.name, (known,)) if known is not None else None
            if move.row is not None and old is not None and _another(
                    profile, table.name, old, translator.full(table.name, move.row)):
                result.append(RowMove(move.key, None, born=False))
                keys.claim(table.name, key, canonical(Origin.born(side), key))
                result.append(RowMove(move.key, move.row, born=True, digest=move.digest))
            else:
                result.append(move)
    return result


def _birth(keys: Keys, side: Side, table: str, key: Value) -> None:
    if side is Side.STAGING:
        keys.claim(table, key, canonical(Origin.STAGING, key))
    else:
        keys.born(table, key)


def _another(profile: Profile, table: str, old: Row, new: Row) -> bool:
    kind = profile.kind_of(table, new)
    return kind is not None and kind.born is not None and old.get(kind.born) != new.get(kind.born)


def _canonical(table: Table, move: RowMove, keys: Keys, translator: Translator) -> Key:
    if table.surrogate:
        name = keys.name(table.name, move.key[0])
        parsed = CanonicalName.parse(name)
        if (move.row is None and not move.born and parsed.origin in (Origin.STAGING, Origin.LIVE)
                and parsed.number == move.key[0]):
            return (str(move.key[0]),)  # the old row of a key that was given out again
        return (name,)
    row = dict(zip(table.key, move.key, strict=True))
    return tuple(translator.value(table.name, row, c) for c in table.key)


def side_key(table: Table, name: Key, side: Translator) -> Key | None:
    """A side's raw key for a canonical one; None when it rests on a row that the side does not have."""
    keys = side.keys
    if table.surrogate:
        found = keys.key(table.name, str(name[0]))
        return None if found is None else (found,)

    def number(target: str, target_name: str) -> Value:
        key = keys.key(target, target_name)
        if key is None:
            raise Unresolved(target, target_name)
        return key

    try:
        return tuple(Writer(side.urls, number).value(v) for v in name)
    except Unresolved:
        return None


def base_key(table: Table, name: Key, base: Translator) -> Key | None:
    """The key under which the anchor holds the ancestor of a row."""
    if table.surrogate:
        known = of_anchor(name[0])
        return None if known is None else (known,)
    return side_key(table, name, base)


def _state(name: str, table: Table, canonical: Key, mine: Mapping[Side, RowMove], anchor: Anchor,
           translators: Mapping[Side, Translator], base: Translator, mask: Mask | None) -> RowState | None:
    ancestor_key = base_key(table, canonical, base)
    ancestor = anchor.base_row(name, ancestor_key) if ancestor_key is not None else None
    base_form = base.row(name, ancestor) if ancestor is not None else None
    raw: dict[Side, Row | None] = {}
    form: dict[Side, Portable | None] = {}
    for side in Side:
        if side in mine:
            row = mine[side].row
            if side is Side.STAGING and mask is not None and row is not None and ancestor is not None:
                # What is made up there never changes anything: it counts as what it stands for.
                masked = mask.columns(name, ancestor)
                row = {c: ancestor[c] if c in masked and c in ancestor else v for c, v in row.items()}
            raw[side] = mine[side].row
            form[side] = translators[side].row(name, row) if row is not None else None
        else:
            raw[side] = ancestor if side is Side.LIVE else None
            form[side] = base_form
    if base_form is None and form[Side.LIVE] is None and form[Side.STAGING] is None:
        return None
    side_keys = {s: mine[s].key if s in mine else side_key(table, canonical, translators[s]) for s in Side}
    return RowState(name, canonical, base_form, form[Side.LIVE], form[Side.STAGING], raw[Side.LIVE],
                    raw[Side.STAGING], frozenset(mine), side_keys[Side.LIVE], side_keys[Side.STAGING],
                    live_digest=mine[Side.LIVE].digest if Side.LIVE in mine else None,
                    staging_digest=mine[Side.STAGING].digest if Side.STAGING in mine else None,
                    joined=_joined(name, raw, ancestor, translators, base))


def _joined(name: str, raw: Mapping[Side, Row | None], ancestor: Row | None, translators: Mapping[Side, Translator],
            base: Translator) -> Row:
    for translator, row in ((translators[Side.STAGING], raw[Side.STAGING]), (translators[Side.LIVE], raw[Side.LIVE]),
                            (base, ancestor)):
        if row is not None:
            return {k: v for k, v in translator.full(name, row).items() if k not in row}
    return {}


class Joins:
    """Finds what rows of one side are joined to. What is gone on that side is looked up on the other; by a number only
    where the anchor knows it, for what is born since has other numbers there. known: whether it does."""

    def __init__(self, profile: Profile, database: Database, tables: Mapping[str, Table], other: Database,
                 known: Callable[[str, Value], bool]) -> None:
        self._joins = {t: [j for j in profile.joins if j.table == t] for t in {j.table for j in profile.joins}}
        self._tables = tables
        self._database, self._other = database, other
        self._is_known = known
        self._known: dict[tuple[object, ...], Value] = {}

    def __call__(self, table: str, row: Row) -> Row:
        return {j.name: self._value(j, row) for j in self._joins.get(table, ()) if j.source in self._tables}

    def on(self, database: Database) -> Joins:
        """The same, in another connection to the side's database, and nowhere else."""
        twin = copy(self)
        twin._database = twin._other = database
        twin._known = {}
        return twin

    def _value(self, join: Join, row: Row) -> Value:
        where = {other: row.get(own) for own, other in join.on}
        known = (join, *where.values())
        if known not in self._known:
            source = self._tables[join.source]
            found = [r for r in self._database.find(source, where) if holds(join.where, r)]
            number = where.get(source.key[0]) if source.surrogate else None
            if not found and (number is None or self._is_known(join.source, number)):
                found = [r for r in self._other.find(source, where) if holds(join.where, r)]
            self._known[known] = found[0][join.column] if found else None
        return self._known[known]


def _by_identity(profile: Profile, tables: Mapping[str, Table]) -> list[str]:
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


class _Matcher:
    """Finds rows born apart that are the same thing, by identity, and gives them one canonical name."""

    def __init__(self, profile: Profile, tables: Mapping[str, Table], anchor: Anchor, keys: Mapping[Side, Keys],
                 translators: Mapping[Side, Translator], base: Translator,
                 moves: Mapping[Side, Mapping[str, list[RowMove]]]) -> None:
        self.profile = profile
        self.tables = tables
        self.anchor = anchor
        self.keys = keys
        self.translators = translators
        self.base = base
        self.moves = moves
        self._by_key: dict[tuple[Side, str], dict[Value, Row]] = {}

    def match(self, table: str) -> None:
        removed = {s: self._group(table, self._removed(s, table)) for s in Side}
        for side in Side:
            for identity, found in self._group(table, self._born(side, table)).items():
                gone = removed[side].get(identity, [])
                if len(found) == 1 and len(gone) == 1:  # deleted and made anew on one side
                    self.keys[side].claim(table, found[0], gone[0])
        live = self._group(table, self._born(Side.LIVE, table))
        for identity, found in self._group(table, self._born(Side.STAGING, table)).items():
            others = live.get(identity, [])
            if len(found) == 1 and len(others) == 1:
                self._same(table, others[0], found[0])
            elif others:
                self._alike(table, others, found)

    def _same(self, table: str, live: Value, staging: Value) -> None:
        """Two rows born apart are one thing, which goes by live's name."""
        if CanonicalName.parse(self.keys[Side.STAGING].name(table, staging)).origin is Origin.STAGING:
            self.keys[Side.STAGING].claim(table, staging, self.keys[Side.LIVE].name(table, live))

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
        known = self._by_key.get((side, table))
        if known is None:
            known = self._by_key[side, table] = {m.key[0]: m.row for m in self.moves[side][table] if m.row is not None}
        form = self.translators[side].row(table, known[key])
        return repr([(c, plain(form)[c]) for c in form if c not in self.tables[table].key])

    def _born(self, side: Side, table: str) -> Iterable[tuple[Value, Row, Portable]]:
        for move in self.moves[side].get(table, ()):
            if move.born and move.row is not None:
                full = self.translators[side].full(table, move.row)
                yield move.key[0], full, self._form(self.translators[side], table, full)

    def _removed(self, side: Side, table: str) -> Iterable[tuple[str, Row, Portable]]:
        for move in self.moves[side].get(table, ()):
            if move.row is None:
                name = _canonical(self.tables[table], move, self.keys[side], self.translators[side])
                key = base_key(self.tables[table], name, self.base)
                row = self.anchor.base_row(table, key) if key else None
                if row is not None:
                    full = self.base.full(table, row)
                    yield str(name[0]), full, self._form(self.base, table, full)

    def _form(self, translator: Translator, table: str, full: Row) -> Portable:
        """The columns that identities are made of, in portable form."""
        return {c: translator.value(table, full, c) for c in _identity_columns(self.profile, table) if c in full}

    def _group(self, table: str, rows: Iterable[tuple[T, Row, Portable]]) -> dict[tuple[object, ...], list[T]]:
        found: dict[tuple[object, ...], list[T]] = {}
        for key, row, form in rows:
            identity = self._identity(table, row, form)
            if identity is not None:
                found.setdefault(identity, []).append(key)
        return found

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
        return (kind.named(row), *(v.text() if isinstance(v, structures.Tree) else v for v in values))
