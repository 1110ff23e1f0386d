"""Whose rows are whose, weighed: what visitors' doings fill, what editors write, who may log in.

Evidence adds up in bits, log2 of how much likelier what is seen is of a table that visitors fill than of one that is
edited. What the values are (mail addresses, machines, password hashes, tokens, amounts with a currency) counts beside
what tables and columns are called; weights are measured (`calibration/whose.py`). Whatever points at a visitor's row is
a visitor's row. In doubt rows count as visitors': they stay in staging until they are named.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from ipaddress import ip_address
from itertools import pairwise

from nostos.core.database.schema import Row, Table, Value
from nostos.core.expressions import expression
from nostos.core.learning.bits import WEIGHTS
from nostos.core.learning.evidence import are_people
from nostos.core.learning.findings import Certainty, Finding
from nostos.core.learning.places import is_link
from nostos.core.profiles.conditions import holds
from nostos.core.profiles.frameworks import base_of, model_names
from nostos.core.profiles.model import Profile
from nostos.core.records import dataclass
from nostos.core.values import words

_LISTS = {what: words.listed(what) for what in (
    "trade", "personal", "passing", "written", "lists", "doings", "arranged", "ranks", "kept", "public", "seen")}
_TELLING = 0.3  # which part of a site's tables must have names that say something
_MAYBE = 3.0  # bits against, up to which a place may point there
_MANY = 2  # other tables that a place may point at as likely: of more none says anything
_FEWEST, _MANY_ROWS = 5, 2000  # rows of a table that another completes: fewer say nothing, of more some were not read
_FEW = 4  # values, that are too few to say what they are
_MAIL = expression(r"[^@\s<>]{1,64}@[\w-]+(?:\.[\w-]+)+")
_MACHINE = expression(r"[0-9A-Fa-f:.]{3,45}")
_AGENT = expression(r"(?:Mozilla|Opera|curl|Wget|[A-Za-z]+bot)/\d")
_HASH = expression(r"(?:\$[\w.-]{1,20}\$|pbkdf2_|argon2|bcrypt|\{S?SHA|\$P\$|scrypt:)\S{10,}")
_TOKEN = expression(r"[0-9a-f]{24,128}|[A-Za-z0-9_-]{32,256}")
_CURRENCY = expression(r"[A-Z]{3}")
_PHONE = expression(r"\+?[\d ()/.-]{7,20}")
_MOMENT = expression(r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d")
_MONEY = expression(r"(?i)decimal|numeric|money")


@dataclass(frozen=True)
class Whose:
    """What was found: tables that visitors fill, that editors do, of accounts; and why, by table."""

    visitors: tuple[str, ...]
    editors: tuple[str, ...]
    accounts: tuple[str, ...]
    why: Mapping[str, str]
    firm: tuple[str, ...]  # of the first, those of which there is little doubt
    hung: Mapping[str, str]  # by table: the one that made its rows visitors', for they point there
    below: Mapping[str, tuple[str, ...]]  # by table: what its rows point at, or may


def features(table: Table, rows: Sequence[Row]) -> dict[str, str]:
    """What is seen of a table by itself, each with its reason in words."""
    features: dict[str, str] = {}
    mine = words.words(table.name)
    telling = any(mine[:1] and mine[0] in entries for entries in _LISTS.values())  # else all of an application begin so
    named = {*mine} if telling or len(mine) == 1 else {*mine[1:]}
    for what in ("trade", "passing", "lists", "doings", "kept"):
        entries = sorted({e for w in named for e in _LISTS[what] if w == e or (w.endswith(e) and len(e) > 3)})
        last = any(mine[-1] == e or (mine[-1].endswith(e) and len(e) > 3) for e in entries)
        if entries and (what != "lists" or last):  # `categories_logs` are logs
            features[f"table {what}" + (" last" if last else "")] = f"its name says {', '.join(entries)}"
    heads = [set(words.words(c)) for c in table.stored if not words.says_person(c)]  # not what is said of a person
    for what in ("trade", "written", "arranged", "ranks", "public", "seen"):
        entries = sorted({w for h in heads for w in h & _LISTS[what]})
        if entries:
            features[f"columns {what}" + (" several" if len(entries) > 2 else "")] = f"it has {', '.join(entries[:4])}"
    personal = sorted({p for c in table.stored for p in _personal_words(c)})
    if personal:
        features["columns personal"] = f"it tells of {', '.join(personal)}"
    if any(words.says_person(c) for c in table.stored):
        features["columns person"] = "it says whose a row is"
    if any({"ip", "agent", "useragent"} & set(words.words(c)) for c in table.stored):
        features["columns machine"] = "it tells of machines"
    if any({"token", "hash", "nonce"} & h or {"session", "key"} <= h for h in heads):
        features["columns token"] = "it holds tokens"
    if is_link(table, words.says_id):
        features["ties"] = "it only ties others together"
    texts = sum(bool(re.search(r"(?i)text|clob", c.declared)) for c in table.columns)
    if texts > 1:
        features["texts"] = "it holds several long texts"
    times = [set(words.words(c.name)) for c in table.columns if re.search(r"(?i)date|time", c.declared)
             or _are_times(row.get(c.name) for row in rows)]
    changed = any(t & {"updated", "modified", "changed", "edited", "updatedon", "modifiedon"} for t in times)
    features["time of change" if changed else "time" if times else "no time"] = (
        "it says when it was changed" if changed else "it says when" if times else "it does not say when")
    for kind, _, why in by_values(table, rows):
        features[f"values {kind}"] = why
    return features


def by_values(table: Table, rows: Sequence[Row]) -> Iterator[tuple[str, str, str]]:
    """What the values of a table's columns are, whatever they are called: what, the column, and a sentence."""
    money = [c.name for c in table.columns if _MONEY.search(c.declared)]
    for column in table.stored:
        texts = [str(row[column]) for row in rows if isinstance(row[column], str) and row[column]]
        if len(texts) < _FEW:
            continue
        for kind, fits in (("mail", _MAIL.fullmatch), ("machine", is_machine), ("agent", _AGENT.match),
                           ("hash", _HASH.match), ("token", _TOKEN.fullmatch), ("phone", _PHONE.fullmatch)):
            if _most(fits, texts) and (kind != "token" or len({*texts}) == len(texts)):
                yield kind, column, f"{column} holds {_SAID[kind]}"
        if money and all(map(_CURRENCY.fullmatch, texts)):
            yield "money", column, f"{money[0]} holds amounts, with a currency in {column}"


def _most(fits: Callable[[str], object], texts: Sequence[str]) -> bool:
    """Whether four texts of five are of a form."""
    spare = len(texts) // 5
    for text in texts:
        spare -= not fits(text)
        if spare < 0:  # most columns are told by their first values
            return False
    return True


def _are_times(values: Iterable[object]) -> bool:
    """Whether values are moments, as text."""
    some = [v for v in values if v]
    return bool(some) and all(isinstance(v, str) and _MOMENT.match(v) for v in some)


_SAID = {"mail": "mail addresses", "machine": "addresses of machines", "agent": "names of browsers",
         "hash": "passwords' hashes", "token": "tokens", "phone": "telephone numbers"}


def is_machine(text: str) -> bool:
    """Whether a text is the address of a machine."""
    try:
        return _MACHINE.fullmatch(text) is not None and bool(ip_address(text))
    except ValueError:
        return False


def weighed(table: Table, rows: Sequence[Row]) -> tuple[float, list[tuple[float, str]]]:
    """The bits that speak for visitors' rows (above 0) or editors', and the reasons, the weightiest first."""
    scale = WEIGHTS["whose"]
    reasons = [(float(scale.get(f, 0.0)), why) for f, why in features(table, rows).items()]
    return float(scale["prior"]) + sum(b for b, _ in reasons), sorted(reasons, key=lambda r: -abs(r[0]))


def whose(unknown: Iterable[Table], samples: Mapping[str, Sequence[Row]], findings: Sequence[Finding], profile: Profile,
          people: Collection[str], every: Iterable[Table] = ()) -> Whose:
    """Whose the rows of tables are that no profile names.

    findings: what places point at, or may: what may point at a visitor's row may be a visitor's.
    people: tables of people: whoever is named in a row as its author or keeper does not make it a visitor's.
    every: all tables of the site: where their names say nothing, all is in doubt.
    """
    tables = list(unknown)
    all_tables = {t.name: t for t in (*every, *tables)}
    why: dict[str, str] = {}
    hung: dict[str, str] = {}
    bits: dict[str, float] = {}
    for table in tables:
        # What a thing holds may be in a row beside its own, as values by language are.
        held = [table, *(all_tables[c.table] for c in profile.children if c.owner == table.name and not c.name
                         and c.table in all_tables)]
        bits[table.name], reasons = max((weighed(t, samples.get(t.name, ())) for t in held), key=lambda w: w[0])
        reason = "; ".join(f"{b:+.1f} {r}" for b, r in reasons[:3])
        why[table.name] = f"{round(bits[table.name]) + 0:+d} bits: {reason}"
    site = list(every) or tables
    telling = sum(any(f.startswith(("table", "columns")) for f in features(t, ())) for t in site)
    names_speak = telling >= _TELLING * len(site)
    accounts = tuple(t.name for t in tables if t.name in people and is_account(t, samples.get(t.name, ())))
    below = _below(tables, findings)
    named = {k.table: k.visitors for k in profile.kinds if not k.natural}
    who = profile.administrators
    may = {row[who.key] for row in samples.get(who.table, ()) if holds(who.where, row)} if who is not None else set()
    of_types = _by_type(profile, all_tables, samples)
    for table in tables:
        if by_editors(table, samples.get(table.name, ()), profile, may):
            bits[table.name] += WEIGHTS["whose"]["by editors"]
            why[table.name] = (f"{round(bits[table.name]) + 0:+d} bits: all were written by who may edit; "
                               f"{why[table.name]}")
    set_up = {k.table for k in profile.kinds if k.group == "settings" and not k.natural and not k.visitors}
    for table in tables:
        one = next((fk.target for fk in table.foreign_keys if fk.target in set_up and fk.columns in table.uniques), "")
        if one:
            bits[table.name] = min(bits[table.name], 0.0) + WEIGHTS["whose"]["completes"]
            why[table.name] = f"{round(bits[table.name]) + 0:+d} bits: its rows belong to one each of {one}, a setting"
    theirs = {t.name for t in tables if bits[t.name] >= WEIGHTS["whose"]["doubt"]} | {t for t, v in named.items() if v}
    for table in tables:
        # Also each product of a small shop may have a review: only what looks like editors' anyhow.
        whole = completes(table, all_tables, samples, profile, people, of_types) if bits[table.name] < 0 else ""
        if whole and whole not in theirs and not any(
                f.startswith("values") for f in features(table, samples.get(table.name, ()))):
            bits[table.name] += WEIGHTS["whose"]["completes"]
            why[table.name] = f"{round(bits[table.name]) + 0:+d} bits: every row of {whole} has one; {why[table.name]}"
    visitors = {t.name for t in tables if t.name not in accounts and (
        bits[t.name] >= WEIGHTS["whose"]["doubt"] or not names_speak)}
    sure = _below(tables, [f for f in findings if f.certainty is Certainty.SURE])
    above = _below(tables, [f for f in findings if f.certainty is Certainty.SURE or f.bits > -_MAYBE], likeliest=True)
    for table in tables:  # what a profile says of them is as sure as what a schema declares
        goals = {r.to for r in profile.references_of(table.name) if r.is_key and not r.learned and not r.where}
        for known in (sure, above) if goals else ():
            known.setdefault(table.name, set()).update(goals)
    for table in tables:
        certain, ties = sure.get(table.name, set()), is_link(table, words.says_id)
        likely = above.get(table.name, set())
        person = next((t for t in sorted(likely) if t in people and t != table.name and (
            (ties and (t in certain or not likely.difference(people))) or (t in certain and _after(table.name, t)))),
            None)
        if person is not None and table.name not in accounts:
            visitors.add(table.name)
            why[table.name], bits[table.name] = f"it says more of {person}, who are people", 0.0
    firm = {t for t in visitors if bits[t] >= WEIGHTS["whose"]["firm"]} | {t for t, reason in named.items() if reason}
    more = True
    while more:
        more = False
        for table in tables:
            name = table.name
            on = [t for t in sorted(above.get(name, ())) if t not in people and t in firm]
            if on and name not in firm and name not in accounts and bits[name] > -WEIGHTS["whose"]["otherwise"]:
                if name not in visitors:
                    hung[name], why[name] = on[0], f"it points at {on[0]}, which visitors fill"
                visitors.add(name)
                firm.add(name)
                more = True
    for table in tables:  # last: what has nothing of its own is as that is which it is of
        ties = is_link(table, words.says_id)
        of = {table.continues} if table.continues else {fk.target for fk in table.foreign_keys} if ties else set()
        if table.name in visitors and of and not of & (visitors | firm | {*people, *accounts}) and (
                ties or bits[table.name] < WEIGHTS["whose"]["firm"]):
            visitors.discard(table.name)
            firm.discard(table.name)
            hung.pop(table.name, None)
            why[table.name] = f"its rows are those of {', '.join(sorted(of))}, or only tie them together"
    why |= dict.fromkeys(accounts, "its rows are people who may log in")
    return Whose(
        tuple(t.name for t in tables if t.name in visitors),
        tuple(t.name for t in tables if t.name not in visitors and t.name not in accounts), accounts, why,
        tuple(t.name for t in tables if t.name in firm), hung, {t: tuple(sorted(goals)) for t, goals in below.items()})


def by_editors(table: Table, rows: Sequence[Row], profile: Profile, may: Collection[Value]) -> bool:
    """Whether every row says who wrote it, and these are people who may edit, as the schema or a profile says. may:
    their keys."""
    who = profile.administrators
    columns = {r.column for r in profile.references_of(table.name) if who is not None and r.to == who.table and r.is_key
               and not r.learned and not r.where}
    if who is None or len(rows) < _FEW or len(columns) != 1 or table.name == who.table:
        return False
    column = columns.pop()
    return all(row[column] in may for row in rows)


def _by_type(profile: Profile, tables: Mapping[str, Table], samples: Mapping[str, Sequence[Row]]) -> dict[str, str]:
    """The table whose rows are meant by a number beside a type, by that type's own number."""
    framework = profile.framework
    types = tables.get(framework.types) if framework is not None else None
    if framework is None or types is None:
        return {}
    models = model_names(framework, tables)
    return {str(row[types.key[0]]): base_of(tables, models.get(tuple(str(row.get(n)) for n in framework.names), ""))
            for row in samples.get(types.name, ())}


def completes(table: Table, tables: Mapping[str, Table], samples: Mapping[str, Sequence[Row]], profile: Profile,
              people: Collection[str], of_types: Mapping[str, str]) -> str:
    """A table every row of which is pointed at by a row of this one, as a version belongs to each page: what says so is
    the schema or a profile, not what was learned. Empty where there is none; people have what is theirs. of_types: the
    tables that types mean."""
    pointed: dict[tuple[str, str], set[str]] = {}  # by column, and the table that its rows point at
    for r in profile.references_of(table.name):
        column = table.column(r.column)
        if not r.is_key or r.learned or r.to in people or r.to not in tables or column is None or column.nullable:
            continue
        table_name = next((c.partition(".")[0] for c, _ in r.where if "." in c), "")
        for row in samples.get(table.name, ()):
            if not r.where or (table_name in row and of_types.get(str(row[table_name])) == r.to):
                pointed.setdefault((r.column, r.to), set()).add(str(row[r.column]))
    for (_, goal), rows in pointed.items():
        keys = {str(row[tables[goal].key[0]]) for row in samples.get(goal, ())} if goal != table.name else set()
        if _FEWEST <= len(keys) < _MANY_ROWS and keys <= rows:
            return goal
    return ""


def _after(name: str, owner: str) -> bool:
    """Whether a table is called after another, in one or many: `user_groups` after `users`."""
    mine, theirs = words.words(name), words.words(owner)
    return len(mine) > len(theirs) and (mine[:len(theirs)] == theirs or mine[:1] == theirs[-1:])


def is_account(table: Table, rows: Sequence[Row]) -> bool:
    """Whether rows are people who may log in: they have passwords, or hashes of some, and names or addresses."""
    if not are_people(table):
        return False
    heads = {w for c in table.stored for w in words.words(c)}
    return bool(heads & {"password", "passwd", "pass", "pwd", "pwhash"}) or any(
        kind == "hash" for kind, *_ in by_values(table, rows))


def _below(tables: Iterable[Table], findings: Iterable[Finding], likeliest: bool = False) -> dict[str, set[str]]:
    """By table, those that its rows point at, or may; likeliest: of very many that a place may mean, the first only."""
    below: dict[str, set[str]] = {}
    for table in tables:
        for fk in table.foreign_keys:
            below.setdefault(table.name, set()).add(fk.target)
    for finding in findings:
        if finding.to and finding.to != finding.place.table and finding.certainty is not Certainty.NONE and (
                finding.certainty is Certainty.SURE or finding.bits > -_MAYBE):
            goals = {finding.to} if likeliest and len(finding.also) > _MANY else {finding.to, *finding.also}
            below.setdefault(finding.place.table, set()).update(goals - {finding.place.table})
    return below


def _personal_words(column: str) -> list[str]:
    """The words of a column's name that say that it holds something of a person: a mail address, not its template."""
    parts = words.words(column)
    listed = _LISTS["personal"]
    return [a + b for a, b in pairwise(parts) if a + b in listed] + [
        w for n, w in enumerate(parts) if w in listed and parts[0] not in words.ASKING
        and not set(parts[n + 1:]) & _LISTS["written"]]
