"""Which addresses a site's content has, by the profile, and what became of the things behind them."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import replace
from itertools import islice
from urllib.parse import quote, urlsplit

from nostos.around.trial.compare import PageFacts
from nostos.core.anchor.names import Side
from nostos.core.anchor.open_voyage import Crew
from nostos.core.compare.items import Comparison
from nostos.core.compare.row_states import RowState
from nostos.core.database.protocol import Database
from nostos.core.database.schema import Key, Table
from nostos.core.expressions import expression
from nostos.core.plan.prepared import PreparedMerge
from nostos.core.profiles.conditions import holds
from nostos.core.profiles.model import Profile
from nostos.core.profiles.network import sites
from nostos.core.profiles.parts import Kind, PathNames
from nostos.core.records import dataclass
from nostos.core.sites.recognise import Site

_PART = expression(r"\{(\w+)\}")


@dataclass(frozen=True)
class _At:
    """The row behind an address."""

    table: str
    key: Key
    item: str


def addresses(crew: Crew, comparison: Comparison, most: int) -> dict[str, PageFacts]:
    """The public addresses that either site's content has, and what is known of each."""
    profile = comparison.rows.profile
    scope = crew.anchor.fact("network_site")
    by_side = {side: dict(_of(site, profile, most, crew.live, scope)) for side, site in ((Side.LIVE, crew.live),
                                                                                       (Side.STAGING, crew.staging))}
    moved: dict[Side, set[tuple[str, Key]]] = {side: set() for side in Side}
    born: dict[Side, set[tuple[str, Key]]] = {side: set() for side in Side}
    for item in comparison.items.values():
        for state in item.rows:
            for side, key, common in ((Side.LIVE, state.target_key, state.target),
                                     (Side.STAGING, state.source_key, state.source)):
                if key is not None:
                    moved[side].add((state.table, key))
                    moved[side].update(_points(profile, state, side))
                    if state.base is None and common is not None:
                        born[side].add((state.table, key))
    result: dict[str, PageFacts] = {}
    for side, common in by_side.items():
        for path, at in common.items():
            numbered = str(at.key[0]) in re.split(r"\D+", path)
            if numbered and (at.table, at.key) in born[side]:
                continue  # the other side may have given this number to something else
            other = by_side[side.other]
            only = "" if path in other else str(side)
            edited = (at.table, at.key) in moved[side] or (path in other and (
                other[path].table, other[path].key) in moved[side.other])
            if only == "live" and (at.table, at.key) in born[Side.LIVE]:
                edited = False
            known = PageFacts(at.item, edited, only)
            result[path] = known if path not in result else replace(known, only="")
    return result


def beside(live: Site, copy: Site, prepared: PreparedMerge, most: int, scope: int | None) -> dict[str, PageFacts]:
    """The public addresses of live, and of a copy of it on which a merge was carried out. What the merge touched counts
    as edited there. scope: of several sites of an installation, the one that comes first."""
    profile = prepared.comparison.rows.profile
    in_live, made = (dict(_of(site, profile, most, live, scope)) for site in (live, copy))
    touched: set[tuple[str, Key]] = set()
    for item in prepared.plan.selection.items:
        for state in item.rows:
            if state.target_key is not None:
                touched.add((state.table, state.target_key))
                touched.update(_points(profile, state, Side.LIVE))
    pages: dict[str, PageFacts] = {}
    for path, at in {**in_live, **made}.items():
        only = "" if path in in_live and path in made else "live" if path in in_live else "staging"
        edited = (at.table, at.key) in touched
        if only != "live" or edited:  # else live has gained it since the copy was made
            pages[path] = PageFacts(at.item, edited, only)
    return pages


def _begins(site: Site, live: Site, address: str) -> str | None:
    """What the paths of another site of an installation begin with: below the site's own address, or with a further
    one of live's. None: it answers elsewhere. address: without a scheme."""
    for origin, name in ((site.url, ""), *zip(site.further, live.further, strict=True)):
        parts = urlsplit(origin)
        for host in (parts.netloc, parts.hostname or ""):
            if (address + "/").startswith(f"{host}{parts.path}/"):
                return name + address[len(host + parts.path):].rstrip("/")
    return None


def _points(profile: Profile, state: RowState, side: Side) -> Iterator[tuple[str, Key]]:
    """What a changed row points at: a page looks otherwise when it gains a comment."""
    row = state.target_raw if side is Side.LIVE else state.source_raw
    for r in profile.references_of(state.table):
        value = row.get(r.column) if row else None
        if r.is_key and isinstance(value, int):
            yield r.to, (value,)


def _of(site: Site, profile: Profile, most: int, live: Site, scope: int | None) -> Iterator[tuple[str, _At]]:
    kinds = [k for k in profile.kinds if k.address]
    network = profile.network if profile.networked else None
    database = site.open(readonly=True)
    try:
        tables = database.tables()
        begins = {} if network is None else {
            n: _begins(site, live, address) for n, address in sites(network, database, tables).items()}
        called = dict(_called(profile.called, database, tables, most * 50))
        if network is not None:
            kinds.sort(key=lambda kind: network.site_of(kind.table) != scope)
        for kind in kinds:
            table = tables.get(kind.table)
            number = network.site_of(kind.table) if network is not None else None
            before = "" if network is None or number == network.first else begins.get(number or 0)
            if table is None or before is None:
                continue
            wanted = [*table.key, *_columns(kind)]
            top = _top(database, tables, kind)
            for number, values in enumerate(database.scan(table, wanted)):
                row = dict(zip(wanted, values, strict=True))
                if number < most * 50 and holds(kind.where, row) and holds(kind.shown, row) and (
                        profile.kind_of(kind.table, row) in (kind, None)):
                    path = _PART.sub(lambda m, row=row: quote(str(row[m.group(1)])), kind.address)  # type: ignore[misc]
                    if not path.startswith(top):
                        continue
                    path = before + ("/" + path[len(top):] if top else path)
                    path = called.get(path, path)
                    label = ",".join(str(row[c]) for c in (kind.label or table.key))
                    yield path, _At(table.name, table.key_of(row), f"{kind.named(row)}/{label}")
    finally:
        database.close()


def _called(names: PathNames | None, database: Database, tables: Mapping[str, Table], most: int
            ) -> Iterator[tuple[str, str]]:
    """Paths, and those under which visitors find the same pages; where there are several, the last."""
    table = tables.get(names.table) if names is not None else None
    if names is not None and table is not None:
        for path, called in islice(database.scan(table, (names.path, names.called)), most):
            yield f"/{str(path).lstrip('/')}", quote(f"/{str(called).lstrip('/')}")


def _top(database: Database, tables: Mapping[str, Table], kind: Kind) -> str:
    """What the address of the row that the site begins at would be; empty where all rows have their own."""
    name, _, column = kind.top.partition(".")
    pointing, table = tables.get(name), tables[kind.table]
    if not column or pointing is None:
        return ""
    first = next(iter(database.end(pointing, 1, False)), None)
    top_row = database.find(table, {table.key[0]: first[column]}) if first is not None else []
    row = top_row[0] if top_row else None
    return "" if row is None else quote(_PART.sub(lambda m: str(row[m.group(1)]), kind.address))


def _columns(kind: Kind) -> list[str]:
    names = [*_PART.findall(kind.address), *(c for c, _ in (*kind.where, *kind.shown)), *kind.label,
             *_PART.findall(kind.name)]
    return list(dict.fromkeys(names))
