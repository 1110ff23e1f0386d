"""What each side changed since the anchor, row by row, in portable form.

Rows are fetched only where digests differ. Rows born apart are matched by identity, so that from here on a row has one
canonical name whatever its keys on the two sides are.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from functools import partial
from itertools import islice

from nostos.core.anchor.names import CanonicalName, Keys, Origin, RowName, Side, canonical, of_anchor
from nostos.core.anchor.rows import SEED, RowMove
from nostos.core.anchor.store import Anchor
from nostos.core.clone.masking import Mask, Recipe
from nostos.core.compare.given_again import are_two, is_another, split, take_apart
from nostos.core.compare.joins import Joins
from nostos.core.compare.matching import Matcher, by_identity
from nostos.core.compare.places import Places
from nostos.core.compare.portable import Portable, Translator
from nostos.core.compare.row_states import Rows, RowState, base_key, canonical_key, is_twin, side_key, twin_name
from nostos.core.compare.sides import Moves, Sides
from nostos.core.compare.two_names import give_names, owners, paths_of, renumbered
from nostos.core.database.protocol import Block, Database
from nostos.core.database.schema import Key, Row, Table, Value
from nostos.core.learning.findings import Layer
from nostos.core.profiles.compared import TOPS, Locals, compared_tables
from nostos.core.profiles.model import Profile
from nostos.core.sites.addresses import forms_of
from nostos.core.sites.effective_profile import effective_profile
from nostos.core.sites.recognise import Site
from nostos.core.values.names import Names

_LIVE = frozenset({Side.LIVE})
_NOTHING: Row = {}
_UNCOMPARED = 5000  # rows of a table that is not compared, whose numbers are looked at
_Wanted = tuple[Table, Sequence[str]]


def compare_rows(anchor: Anchor, live: Site, live_db: Database, staging: Site, staging_db: Database,
                 layers: Iterable[Layer] = (), files: Mapping[str, str] | None = None) -> Rows:
    """Find every row that is not the same on live, in staging and at the anchor. files: paths, in live's words,
    that are others in staging."""
    live_all, staging_all = live_db.tables(), staging_db.tables()
    profile = effective_profile(live, {**staging_all, **{n: t.with_new_of(staging_all.get(n, t))
                                                         for n, t in live_all.items()}}, layers)
    live_tables, staging_tables = compared_tables(profile, live_all), compared_tables(profile, staging_all)
    keys = {Side.LIVE: anchor.keys(Side.LIVE), Side.STAGING: anchor.keys(Side.STAGING)}
    urls = {Side.LIVE: forms_of(live), Side.STAGING: forms_of(staging, live)}
    names = Names(files or {}).with_slugs(both for *_, both in keys[Side.LIVE].names())
    urls[Side.STAGING].staging = True
    tables = {Side.LIVE: live_tables, Side.STAGING: staging_tables}
    both = {**staging_tables, **live_tables}
    databases = {Side.LIVE: live_db, Side.STAGING: staging_db}
    joins = {Side.LIVE: Joins(profile, live_db, live_all, staging_db, partial(anchor.has, Side.LIVE)),
             Side.STAGING: Joins(profile, staging_db, staging_all, live_db, partial(anchor.has, Side.STAGING))}
    translators = {s: Translator(profile, both, urls[s], keys[s], databases[s].prefix, joins[s],
                                 Places(profile, databases[s], tables[s])) for s in Side}
    for side in Side:
        urls[side].called = names
        translators[side].files = owners(profile, databases[side], tables[side], names)

    moves = _moves(anchor, profile, databases, tables, translators)
    were = {name: {m.key[0]: anchor.base_row(name, m.key) for m in moves[Side.LIVE].get(name, ())}
            for name, _ in profile.placed}
    base = Translator(profile, both, urls[Side.LIVE], anchor.keys(Side.LIVE), live_db.prefix, joins[Side.LIVE],
                      Places(profile, live_db, live_tables, were))
    base.files = translators[Side.LIVE].files
    for side in Side:
        for name in {n.table for n in profile.nested if n.tells and any(moves[s].get(n.table) for s in Side)}:
            moves[side][name] += _below_another(profile, translators[side], base, databases[side], both[name],
                                                {m.key for m in moves[side].get(name, ())})
    stored = Recipe.of(anchor.fact("mask"))
    sides = Sides(profile, anchor, databases, tables, translators, base,
                  Mask(stored, profile, both) if stored else None)
    take_apart(sides, moves)
    paths = {s: paths_of(profile, moves[s], names, s is Side.STAGING) for s in Side}
    matcher = Matcher(sides, moves, paths)
    for name in by_identity(profile, both):
        matcher.match(name)
    names = replace(names, numbers=renumbered(sides, moves))
    names = names.with_slugs(give_names(sides, moves))
    for side in Side:
        urls[side].called = names

    states = _states(sides, moves)
    unkeyed = [n for n, t in {**staging_all, **live_all}.items() if not t.key and n not in profile.volatile]
    tops = anchor.fact(TOPS) or {}
    born = {s: _born_uncompared(databases[s], every, tops, tables[s])
            for s, every in ((Side.LIVE, live_all), (Side.STAGING, staging_all))}
    return Rows(profile, live.database.engine, live_all, staging_all, anchor.tables(Side.LIVE), states, keys[Side.LIVE],
                keys[Side.STAGING], translators, base, urls[Side.LIVE], live_db.prefix,
                staging_db.prefix, unkeyed, mask=sides.mask, names=names, uncompared=born)


def _born_uncompared(database: Database, tables: Mapping[str, Table], tops: Mapping[str, int],
                     compared: Mapping[str, Table]) -> dict[int, set[str]]:
    """The numbers that one side has given out since the clone in tables that are not compared, with these tables."""
    born: dict[int, set[str]] = {}
    for name, table in tables.items():
        if name not in compared and table.surrogate and name in tops:
            for row in islice(database.above(table, tops[name]), _UNCOMPARED):
                born.setdefault(int(str(row[table.key[0]])), set()).add(name)
    return born


def _states(sides: Sides, moves: Moves) -> dict[RowName, RowState]:
    """Every row that moved, as all sides have it."""
    states: dict[RowName, RowState] = {}
    for name, table in sides.both.items():
        moved: dict[Key, dict[Side, RowMove]] = {}
        stale: dict[Key, list[tuple[Side, Key]]] = {}
        for side in Side:
            for move in moves[side].get(name, ()):
                canonical = canonical_key(table, move, sides.keys[side], sides.translators[side])
                mine = moved.setdefault(canonical, {})
                other = mine.get(side)
                if other is not None:  # deleted and made anew: it is there, under another key
                    gone, move = (other, move) if other.row is None else (move, other)
                    stale.setdefault(canonical, []).append((side, gone.key))
                mine[side] = move
        for canonical, mine in [t for c, m in moved.items() for t in _twins(sides, table, c, m)]:
            state = _state(sides, table, canonical, mine)
            if state is not None:
                states[state.id] = replace(state, stale=tuple(stale[canonical])) if canonical in stale else state
    return states


def _twins(sides: Sides, table: Table, name: Key, mine: dict[Side, RowMove]
           ) -> Iterator[tuple[Key, dict[Side, RowMove]]]:
    """What moved under one name: two things where both sides gained one under the same number."""
    rows = {s: m.row for s, m in mine.items() if m.row is not None and m.born}
    if len(rows) == len(Side) and are_two(sides.profile, table, rows, sides.translators):
        yield name, {Side.LIVE: mine[Side.LIVE]}
        yield twin_name(name), {Side.STAGING: mine[Side.STAGING]}
    else:
        yield name, mine


def _moves(anchor: Anchor, profile: Profile, databases: Mapping[Side, Database],
           tables: Mapping[Side, Mapping[str, Table]], translators: Mapping[Side, Translator]
           ) -> dict[Side, dict[str, list[RowMove]]]:
    """What is not as the anchor knew it, by side and table."""
    moves: dict[Side, dict[str, list[RowMove]]] = {s: {} for s in Side}
    local = Locals(profile)
    seen = _seen(anchor, databases, tables)
    for side, database in databases.items():
        for name, table in tables[side].items():
            every = [*anchor.moves(side, database, table, *seen[side].get(name, ())),
                     *(anchor.given_away(translators[side].keys, table) if table.surrogate else ())]
            translators[side].expect(name, (m.row for m in every if m.row is not None))
            kept = [m for m in every
                     if m.row is None or not local.is_local(table, translators[side].full(
                         name, m.row) if local.depends(name) else m.row)]
            moves[side][name] = _apart(profile, anchor, translators[side], side, table, kept)
    return moves


_Seen = tuple[dict[int, Block] | None, dict[int, Block] | None]  # a table's blocks, or their fingerprints


def _seen(anchor: Anchor, databases: Mapping[Side, Database],
          tables: Mapping[Side, Mapping[str, Table]]) -> dict[Side, dict[str, _Seen]]:
    """The digests of all blocks, or their fingerprints where the anchor has them, where servers compute them: of both
    sides at once."""
    if not all(d.computes for d in databases.values()):
        return {s: {} for s in Side}
    seed = anchor.fact(SEED)
    wanted: dict[Side, tuple[list[_Wanted], list[_Wanted]]] = {s: ([], []) for s in Side}
    for side in Side:
        for table in tables[side].values():
            known = anchor.has_fingerprints(side, table.name) and databases[side].has_fingerprints(table)
            wanted[side][known].append((table, anchor.columns(side, table)))

    def ask(side: Side) -> dict[str, _Seen]:
        plain, quick = wanted[side]
        seen: dict[str, _Seen] = {t.name: (blocks, None) for (t, _), blocks in zip(
            plain, databases[side].sums_of(plain), strict=True)}
        seen |= {t.name: (None, prints) for (t, _), prints in zip(
            quick, databases[side].sums_of(quick, seed) if quick else (), strict=True)}
        return seen

    with ThreadPoolExecutor(len(Side)) as pool:
        return dict(zip(Side, pool.map(ask, Side), strict=True))


def _apart(profile: Profile, anchor: Anchor, translator: Translator, side: Side, table: Table,
           moves: list[RowMove]) -> list[RowMove]:
    """Register births, and take apart rows whose key was given out again to another thing."""
    result = []
    keys = translator.keys
    for move in moves:
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
            if move.row is not None and old is not None and is_another(
                    profile, table.name, old, translator.full(table.name, move.row)):
                result += split(keys, side, table.name, move)
            else:
                result.append(move)
    return result


def _below_another(profile: Profile, translator: Translator, base: Translator, database: Database, table: Table,
                   known: set[Key]) -> list[RowMove]:
    """Rows that intervals put below another row than before, though their own bounds are what they were."""
    tree = profile.nested_of(table.name)
    if tree is None or translator.places is None or base.places is None or table.name not in database.tables():
        return []
    then = base.places.nests.all_above(tree)
    pairs = []
    for key, up in translator.places.nests.all_above(tree).items():
        name = of_anchor(translator.keys.name(table.name, key)) if (key,) not in known else None
        if name is not None and name in then:
            mine = None if up is None else translator.keys.name(table.name, up)
            if mine != (None if then[name] is None else str(then[name])):
                row = database.fetch(table, (key,))
                pairs += [RowMove((key,), row, born=False)] if row is not None else []
    return pairs


def _birth(keys: Keys, side: Side, table: str, key: Value) -> None:
    if side is Side.STAGING:
        keys.claim(table, key, canonical(Origin.STAGING, key))
    else:
        keys.born(table, key)


def _state(sides: Sides, table: Table, canonical: Key, mine: Mapping[Side, RowMove]) -> RowState | None:
    """One row that moved, in its versions. mine: what moved of it, by side. None where no version is left."""
    name, base, mask, translators = table.name, sides.base, sides.mask, sides.translators
    gained = mine.get(Side.LIVE) if len(mine) == 1 else None
    if gained is not None and gained.born and gained.row is not None and table.surrogate and canonical == (
            str(gained.key[0]),):  # it was not there before, and staging knows nothing of it
        alone = translators[Side.LIVE].deferred(name, gained.row)
        joined = _joined(name, {Side.LIVE: gained.row, Side.STAGING: None}, None, translators, base)
        return RowState(name, canonical, None, alone, None, gained.row, None, _LIVE, gained.key, None,
                        target_digest=gained.digest, joined=joined or _NOTHING)
    ancestor_key = base_key(table, canonical, base)
    ancestor = sides.anchor.base_row(name, ancestor_key) if ancestor_key is not None else None
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
    side_keys = {s: mine[s].key if s in mine else None if is_twin(table, canonical) else side_key(
        table, canonical, translators[s]) for s in Side}
    return RowState(name, canonical, base_form, form[Side.LIVE], form[Side.STAGING], raw[Side.LIVE],
                    raw[Side.STAGING], frozenset(mine), side_keys[Side.LIVE], side_keys[Side.STAGING],
                    target_digest=mine[Side.LIVE].digest if Side.LIVE in mine else None,
                    source_digest=mine[Side.STAGING].digest if Side.STAGING in mine else None,
                    joined=_joined(name, raw, ancestor, translators, base))


def _joined(name: str, raw: Mapping[Side, Row | None], ancestor: Row | None, translators: Mapping[Side, Translator],
            base: Translator) -> Row:
    for translator, row in ((translators[Side.STAGING], raw[Side.STAGING]), (translators[Side.LIVE], raw[Side.LIVE]),
                            (base, ancestor)):
        if row is not None:
            return {k: v for k, v in translator.full(name, row).items() if k not in row}
    return {}
