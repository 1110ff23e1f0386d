"""What was worked out of a site's data, with its evidence, and what its administrator said: a layer of a profile."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import field, replace
from enum import StrEnum
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

import msgspec

from nostos.core.errors import SiteError
from nostos.core.private_files import make_private, write_private
from nostos.core.profiles.conditions import Where
from nostos.core.profiles.loader import ADDITIONS, additions, extended
from nostos.core.profiles.model import Profile
from nostos.core.profiles.parts import Child, FieldPolicy, Join, Kind, Piece, Reference
from nostos.core.profiles.places import Place
from nostos.core.profiles.policies import STRUCTURE, policy_named
from nostos.core.profiles.row_trees import NestedTree, RowTree
from nostos.core.records import dataclass
from nostos.core.values import shapes
from nostos.core.values.words import says_weakly

LIST = r"^\s*[,;|]?(\d+(?:(?:\s*[,;|]\s*|\s+)\d+)*)[,;|]?\s*$"


class Certainty(StrEnum):
    """How sure a finding is. OPEN: it may be, and someone has to say."""

    SURE = "sure"
    OPEN = "open"
    NONE = "none"


@dataclass(frozen=True)
class Finding:
    """What a place is. to: the table that it points at, if it is sure or may be. evidence: sentences for and against.
    many: lists of numbers were seen there. to_column: the column there by which it names rows, if not by their keys."""

    place: Place
    certainty: Certainty
    to: str = ""
    evidence: tuple[str, ...] = ()
    many: bool = False
    to_column: str = ""
    bits: float = 0.0  # how much speaks for `to`, more than against
    also: tuple[str, ...] = ()  # tables for which nearly as much speaks

    @property
    def references(self) -> tuple[Reference, ...]:
        """A number that stands there, and a list of them: where the one stands today, the other may tomorrow."""
        table, column, where, path = self.place.table, self.place.column, self.place.where, self.place.path
        if self.to_column:
            return Reference(table, column, self.to, self.to_column, "", where, learned=True),
        weak = not path and not where and says_weakly(column)
        if path and (shapes.is_text_step(path[-1]) or path[-1][:1] == "{"):
            return Reference(table, column, self.to, None, "", where, path, learned=True),
        return (Reference(table, column, self.to, None, "", where, path or None, weak=weak, learned=True),
                Reference(table, column, self.to, None, "", where, path or None, LIST, True, learned=True))


@dataclass(frozen=True)
class Layer:
    """What one source knows of a site's meaning. numbers: places that hold no references. visitors, editors: patterns
    of kinds whose rows visitors make, or editors. made: patterns of tables that are made from others. names: for each
    table, the columns that say when two rows born apart are one; none: nothing says so."""

    name: str
    references: tuple[Reference, ...] = ()
    numbers: frozenset[Place] = frozenset()
    visitors: tuple[str, ...] = ()
    editors: tuple[str, ...] = ()
    made: tuple[str, ...] = ()
    accounts: tuple[str, ...] = ()  # kinds of who may log in
    names: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    structures: tuple[tuple[str, str], ...] = ()  # columns of texts that are all structures
    findings: tuple[Finding, ...] = ()
    trees: tuple[RowTree, ...] = ()
    nested: tuple[NestedTree, ...] = ()
    kinds: tuple[Kind, ...] = ()  # of rows of one table that visitors make, where others are editors'
    children: tuple[Child, ...] = ()
    policies: tuple[tuple[str, str, str], ...] = ()  # table, column, and the policy's name
    pieces: tuple[Piece, ...] = ()
    joins: tuple[Join, ...] = ()
    personal: tuple[tuple[str, str, str], ...] = ()  # table, column, and the kind of personal data
    adds: Profile | None = None  # what else it says, as parts of a profile
    sampled: tuple[int, int] = (0, 0)  # how many tables were looked at, and how many rows of them
    firm: tuple[str, ...] = ()  # of the kinds of visitors', those of which there is little doubt
    hung: Mapping[str, str] = field(default_factory=dict)  # by kind: the one that made its rows visitors'
    below: Mapping[str, tuple[str, ...]] = field(default_factory=dict)  # by kind: what its rows point at, or may
    protects: tuple[tuple[str, Where], ...] = ()  # tables, and which of their rows keep others from something
    why: Mapping[str, str] = field(default_factory=dict)  # by table: why its rows are whose they are

    def over(self, profile: Profile) -> Profile:
        """The profile with what this layer adds. What the profile itself says stays, but for what was said by hand."""
        if self.adds is not None:
            profile = extended(profile, self.adds)
        declared = {(r.table, r.column, r.where, r.path) for r in profile.references if r.pattern is None}
        added = tuple(r for r in self.references if (r.table, r.column, r.where, r.path) not in declared)
        kinds = []
        for kind in profile.kinds:
            if kind.natural and kind.table in self.names:
                kind = replace(kind, identity=self.names[kind.table])
            if any(fnmatchcase(kind.name, p) for p in self.visitors):
                kind = replace(kind, visitors=True)
            elif any(fnmatchcase(kind.name, p) for p in self.editors):
                kind = replace(kind, visitors=False)
            if any(fnmatchcase(kind.name, p) for p in self.accounts):
                kind = replace(kind, account=True)
            kinds.append(kind)
        trees = tuple(t for t in self.trees if profile.tree_of(t.table) is None)
        kept = tuple(k for k in self.kinds if all(k.name != o.name for o in kinds))
        nested = tuple(t for t in self.nested if profile.nested_of(t.table) is None)
        policies = (*profile.policies, *(FieldPolicy(t, c, STRUCTURE) for t, c in self.structures),
                    *(FieldPolicy(t, c, policy_named(p)) for t, c, p in self.policies))
        taken = {k.table for k in profile.kinds if not k.natural} | {c.table for c in profile.children}
        children = tuple(c for c in self.children if c.table not in taken)
        return replace(profile, references=(*profile.references, *added), kinds=(*kept, *kinds), policies=policies,
                       trees=(*profile.trees, *trees), nested=(*profile.nested, *nested),
                       pieces=(*profile.pieces, *self.pieces),
                       joins=(*profile.joins, *self.joins), personal=(*profile.personal, *self.personal),
                       children=(*profile.children, *children), protects=(*profile.protects, *self.protects),
                       made=(*profile.made, *self.made), numbers=profile.numbers | self.numbers,
                       visitor_kinds=(*profile.visitor_kinds, *self.visitors),
                       firm_kinds=(*profile.firm_kinds, *self.firm, *(k.name for k in kept if k.visitors)))


def read_layer(path: Path) -> Layer:
    """A layer from a file of answers. Raises SiteError with the part that is wrong; an empty one where there is none.
    """
    if not path.is_file():
        return Layer("answers")
    try:
        data = tomllib.loads(path.read_text(encoding="utf-8"))
        return from_data(data, str(path))
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError, ValueError, TypeError, AttributeError) as error:
        raise SiteError(f"The answers in {path} cannot be used: {error}.", next_step="Mend the file.") from error


def from_data(data: Mapping[str, Any], name: str) -> Layer:
    """A layer from what a TOML file says. Raises ValueError."""
    known = {"answers", "visitors", "editors", "made"}
    more = {k: v for k, v in data.items() if k not in known}
    wrong = sorted(set(more) - ADDITIONS)
    if wrong:
        raise ValueError(f"it says {', '.join(wrong)}; known are {', '.join(sorted(known))} and the parts of a profile")
    adds = additions(more, name) if more else None
    references: list[Reference] = []
    numbers = set()
    for text, section in data.get("answers", {}).items():
        place = Place.parse(text)
        if section == "number":
            numbers.add(place)
        else:
            references += Finding(place, Certainty.SURE, str(section)).references
    visitors, editors, made = (tuple(map(str, data.get(key, ()))) for key in ("visitors", "editors", "made"))
    return Layer(name, tuple(references), frozenset(numbers), visitors, editors, made, adds=adds)


def add_answers(path: Path, answers: Mapping[str, str], tables: Mapping[str, Any]) -> None:
    """Write answers into a file of answers, which keeps what else is in it. Raises ValueError for a place or a table
    that there is not."""
    import tomlkit

    for text, goal in answers.items():
        place = Place.parse(text)
        if place.table not in tables or tables[place.table].column(place.column) is None:
            raise ValueError(f"there is no column {place.table}.{place.column}")
        if goal != "number" and goal not in tables:
            raise ValueError(f"there is no table {goal}; an answer is a table's name, or `number`")
    document = tomlkit.parse(path.read_text(encoding="utf-8")) if path.is_file() else tomlkit.document()
    if not path.is_file():
        document.add(tomlkit.comment("What numbers mean that nothing else tells. An answer is the table that a place "))
        document.add(tomlkit.comment("points at, or `number` where it points at none."))
    section = document.setdefault("answers", tomlkit.table())
    for text, goal in answers.items():
        section[text] = goal
    make_private(path.parent)
    write_private(path, tomlkit.dumps(document).encode())


def take_answers(source: Path, path: Path) -> None:
    """Add what a colleague's file of answers says to a site's own; where both say something, the colleague's counts.
    Raises SiteError when it cannot be used."""
    import tomlkit

    if not source.is_file():
        raise SiteError(f"There is no file {source}.", next_step="`nostos learn --save FILE` writes one.")
    read_layer(source)
    coming = tomlkit.parse(source.read_text(encoding="utf-8"))
    document = tomlkit.parse(path.read_text(encoding="utf-8")) if path.is_file() else tomlkit.document()
    for key, value in coming.items():
        if key == "answers":
            document.setdefault("answers", tomlkit.table()).update(value)
        else:
            document[key] = value
    make_private(path.parent)
    write_private(path, tomlkit.dumps(document).encode())


def as_data(layer: Layer) -> dict[str, Any]:
    """A layer as JSON-like data, for keeping."""
    return {"findings": [[str(f.place), str(f.certainty), f.to, list(f.evidence), f.many, f.to_column, f.bits,
                          list(f.also)] for f in layer.findings],
            "visitors": list(layer.visitors), "editors": list(layer.editors), "made": list(layer.made),
            "accounts": list(layer.accounts), "hung": dict(layer.hung),
            "firm": list(layer.firm),
            "below": {k: list(v) for k, v in layer.below.items()},
            "names": {t: list(c) for t, c in layer.names.items()}, "why": dict(layer.why),
            "structures": [list(place) for place in layer.structures],
            "trees": [msgspec.to_builtins(tree) for tree in layer.trees],
            "kinds": [msgspec.to_builtins(kind) for kind in layer.kinds],
            "nested": [msgspec.to_builtins(tree) for tree in layer.nested],
            "children": [msgspec.to_builtins(child) for child in layer.children],
            "policies": [list(policy) for policy in layer.policies],
            "pieces": [msgspec.to_builtins(piece) for piece in layer.pieces],
            "personal": [list(mails) for mails in layer.personal],
            "protects": [[table, [list(c) for c in where]] for table, where in layer.protects],
            "joins": [msgspec.to_builtins(join) for join in layer.joins]}


def of_data(data: Mapping[str, Any]) -> Layer:
    """What `as_data` gave."""
    findings = tuple(Finding(Place.parse(place), Certainty(certainty), to, tuple(evidence), many, *rest[:2],
                             *(tuple(also) for also in rest[2:]))
                     for place, certainty, to, evidence, many, *rest in data["findings"])
    return learned(
        findings, visitors=tuple(data["visitors"]), editors=tuple(data["editors"]), made=tuple(data["made"]),
        accounts=tuple(data.get("accounts", ())), hung=data.get("hung", {}),
        firm=tuple(data.get("firm", ())),
        below={k: tuple(v) for k, v in data.get("below", {}).items()},
        names={t: tuple(c) for t, c in data["names"].items()}, why=data["why"],
        structures=tuple((t, c) for t, c in data["structures"]),
        trees=tuple(msgspec.convert(tree, RowTree) for tree in data.get("trees", ())),
        kinds=tuple(msgspec.convert(kind, Kind) for kind in data.get("kinds", ())),
        nested=tuple(msgspec.convert(tree, NestedTree) for tree in data.get("nested", ())),
        children=tuple(msgspec.convert(child, Child) for child in data.get("children", ())),
        policies=tuple((t, c, p) for t, c, p in data.get("policies", ())),
        pieces=tuple(msgspec.convert(piece, Piece) for piece in data.get("pieces", ())),
        personal=tuple((t, c, k) for t, c, k in data.get("personal", ())),
        protects=tuple((t, tuple((c, section) for c, section in where)) for t, where in data.get("protects", ())),
        joins=tuple(msgspec.convert(join, Join) for join in data.get("joins", ())))


def learned(findings: tuple[Finding, ...], **rest: Any) -> Layer:
    """The layer of what was worked out: what is sure of it counts. rest: as of `Layer`."""
    return Layer("learned", tuple(r for f in findings if f.certainty is Certainty.SURE for r in f.references),
                 frozenset(f.place for f in findings if f.certainty is Certainty.NONE), findings=findings, **rest)
