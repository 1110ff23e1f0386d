"""Whose rows are whose: what visitors fill, what is made from what they do, what editors write."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from itertools import pairwise

from nostos.core.database.schema import Table
from nostos.core.profiles.learning import words
from nostos.core.profiles.learning.findings import Finding
from nostos.core.profiles.model import Profile

_TRADE, _PERSONAL, _MADE, _PASSING, _WRITTEN, _LISTS = (
    words.listed(what) for what in ("trade", "personal", "made", "passing", "written", "lists"))
_RANKS = frozenset({"display", "sort", "menu", "list", "tab", "view", "show", "field", "column", "row", "by"})
_ADDRESS = frozenset({"address", "addr", "number", "no", "nr", "hash", "confirmed", "verified", "normalized"})
_HEADINGS = frozenset({"title", "slug", "headline", "heading", "description"})
_COMPOUND = ("logentry", "indexentry", "logline", "cacheentry", "queueitem", "searchindex", "referenceindex",
             "editingsession", "formstate")  # words that names write as one


def whose(unknown: Iterable[Table], sure: Sequence[Finding], profile: Profile, known_system: bool,
          people: Collection[str]) -> tuple[list[str], list[str], list[str], dict[str, str]]:
    """Which tables that no profile names visitors fill, which editors, and which are merely made from others and need
    not be compared; and why.

    known_system: a profile knows the rest of the site, so that what nothing speaks for counts as visitors'. people:
    tables of people: whoever is named in a row as its author or keeper does not make it a visitor's.
    """
    tables = list(unknown)
    said: dict[str, str] = {}
    kind: dict[str, str] = {}
    for table in tables:
        found = by_itself(table)
        if found is not None:
            kind[table.name], said[table.name] = found
    below = _below(tables, sure)
    visitors_kinds = {k.table for k in profile.kinds} - {k.table for k in profile.kinds if not k.visitors}
    names = {t.name for t in tables}

    def hang(over: bool) -> None:
        """What hangs on something of visitors' is visitors' too. over: whatever its own names say."""
        for _ in range(4):
            for table in tables:
                above = [t for t in sorted(below.get(table.name, ())) if t not in people and (
                    kind.get(t) == "visitors" or t in visitors_kinds)]
                if above and kind.get(table.name) != "visitors" and (over or table.name not in kind):
                    kind[table.name], said[table.name] = "visitors", f"it points at {above[0]}"

    hang(over=True)
    for table in tables:
        above = below.get(table.name, set())
        if table.name not in kind and above and above <= set(people):
            kind[table.name] = "visitors"
            said[table.name] = f"it points at {min(above)}, and nothing else is said of it"
    hang(over=False)
    for _ in range(4):
        for table in tables:
            owners = [t for t in sorted(below.get(table.name, ())) if kind.get(t) == "editors" or (
                t not in names and t not in visitors_kinds)]
            if table.name not in kind and owners:
                kind[table.name], said[table.name] = "editors", f"it belongs to {owners[0]}"
    for table in tables:
        if table.name not in kind and known_system:
            kind[table.name], said[table.name] = "visitors", "nothing can be said of it"
    # What is made, and whose rows the database itself ties to nothing that may be removed.
    made = [t.name for t in tables if _made(t) and not any(fk.target in names for fk in t.foreign_keys)]
    visitors, editors = ([t.name for t in tables if kind.get(t.name) == what and t.name not in made]
                         for what in ("visitors", "editors"))
    return visitors, editors, made, said


def _made(table: Table) -> list[str]:
    """The words in a table's name that say that its rows are made from others; none where someone writes in it: a
    session may be one of a conference's."""
    name = set(words.words(table.name))
    compound = {w for w in name if any(w.endswith(c) for c in _COMPOUND)}
    written = {h for c in table.names for h in words.words(c)} & _HEADINGS
    return sorted(compound if written else compound | (name & _MADE))


def _below(tables: Iterable[Table], sure: Iterable[Finding]) -> dict[str, set[str]]:
    """By table, those that its rows point at."""
    below: dict[str, set[str]] = {}
    for table in tables:
        for fk in table.foreign_keys:
            below.setdefault(table.name, set()).add(fk.target)
    for finding in sure:
        if finding.to != finding.place.table:
            below.setdefault(finding.place.table, set()).add(finding.to)
    return below


def by_itself(table: Table) -> tuple[str, str] | None:
    """What a table's own names say: "visitors" or "editors", and why; None where they say nothing."""
    heads = [h for c in table.names for h in _heads(c)]
    name = set(words.words(table.name))
    own = set(words.words(table.name)[1:]) or name  # without what all tables of an application begin with
    made = _made(table)
    trade, personal = sorted(set(heads) & _TRADE), sorted({p for c in table.names for p in _personal(c)})
    written = sorted(set(heads) & _WRITTEN)
    lists = sorted({e for w in own for e in _LISTS if w == e or (w.endswith(e) and len(e) > 3)})
    if made:
        return "visitors", f"it is made from others, as {', '.join(made)} in its name says"
    if len(trade) > 1 or personal or (own & _TRADE and not lists):
        return "visitors", f"it tells of {', '.join(dict.fromkeys((*trade, *personal, *sorted(own & _TRADE))))}"
    if name & _PASSING:
        return "visitors", f"it tells of {', '.join(sorted(name & _PASSING))}"
    if written or lists:
        return "editors", f"it has {', '.join(written)}" if written else f"it is a list of {', '.join(lists)}s"
    if name & _TRADE:
        return "visitors", f"it tells of {', '.join(sorted(name & _TRADE))}"
    return None


def _heads(column: str) -> tuple[str, ...]:
    """The words of a column's name that say what its row is about: not those of counts, ranks and settings."""
    parts = words.words(column)
    if parts and (parts[0] in words.ASKING or parts[0] in ("num", "number", "count", "max", "min", "default")):
        return ()
    return tuple(w for n, w in enumerate(parts) if not (w == "order" and (
        len(parts) == 1 or (n and parts[n - 1] in _RANKS))))


def _personal(column: str) -> list[str]:
    """The words of a column's name that say that it holds something of a person: a mail address, not its template."""
    parts = words.words(column)
    pairs = [a + b for a, b in pairwise(parts)]
    return [w for w in pairs if w in _PERSONAL] + [
        w for n, w in enumerate(parts) if w in _PERSONAL and set(parts[n + 1:]) <= _ADDRESS
        and parts[0] not in words.ASKING]
