"""Which layer said what: where it comes from what is known of a column (design, section 2)."""

from __future__ import annotations

from collections.abc import Iterator

from nostos.core.database.schema import Row
from nostos.core.learning.findings import LIST, Certainty, Layer
from nostos.core.profiles.conditions import holds
from nostos.core.profiles.model import Profile
from nostos.core.profiles.parts import Reference
from nostos.core.profiles.places import Place
from nostos.core.records import dataclass

SAID, SCHEMA = "its administrator", "the schema"


@dataclass(frozen=True)
class Sources:
    """The layers of what is known of a site: its built-in profile, what its site file adds, what was learned and said.
    """

    profile: Profile
    adds: Layer | None
    layers: tuple[Layer, ...]

    @property
    def _above_profile(self) -> tuple[Layer, ...]:
        return (self.adds, *self.layers) if self.adds else self.layers

    def of(self, table: str, column: str, known: Profile, row: Row) -> tuple[str, ...]:
        """What is known of a column of a row, each with who says it and why. known: all layers together."""
        lines = [f"{_place(r)} points at {r.to}: {self._who(r)}" for r in known.references_of(table)
                 if r.column == column and r.to and r.pattern != LIST and holds(r.where, row)]
        tree = known.tree_of(table)
        if tree is not None and column in tree.columns:
            lines.append(f"it follows from the row's place in a tree: {self._by_part('trees', tree)}")
        for policy in known.policies:
            if policy.table == table and policy.column == column and not policy.path and holds(policy.where, row) and (
                    str(policy.policy) != "local"):
                lines.append(f"it is merged as {policy.policy}: {self._by_part('policies', policy)}")
                break
        return tuple(dict.fromkeys(lines))

    def whose(self, kind: str, table: str, visitors: bool) -> str:
        """Who says whose the rows of a kind are, and why; empty where nobody says anything."""
        for layer in reversed(self.layers):
            if table in layer.why or kind in layer.why:
                return f"{layer.name}: {layer.why.get(kind) or layer.why[table]}"
            if kind in (layer.visitors if visitors else layer.editors):
                return SAID
        return ""

    def counts(self) -> Iterator[tuple[str, int, int, int]]:
        """Each layer: its name, how many references, kinds and parts, and policies it tells."""
        yield self.profile.title, len(self.profile.references), len(self.profile.kinds) + len(
            self.profile.children), len(self.profile.policies)
        for layer in self._above_profile:
            more = layer.adds
            yield (layer.name, len({(r.table, r.column, r.where, r.path) for r in layer.references}) + (
                len(more.references) if more else 0),
                len(layer.visitors) + len(layer.editors) + len(layer.children) + (len(more.kinds) if more else 0),
                len(layer.policies) + len(layer.structures) + len(layer.trees) + (len(more.policies) if more else 0))

    def _who(self, r: Reference) -> str:
        place = Place(r.table, r.column, r.where, r.path or ())
        for layer in self._above_profile:
            if r in layer.references:
                why = next((f.evidence for f in layer.findings if f.certainty is Certainty.SURE and f.to == r.to and (
                    f.place == place or r in f.references)), ())
                return f"{layer.name}, {'; '.join(why)}" if why else _called(layer)
            if layer.adds is not None and r in layer.adds.references:
                return _called(layer)
        if r in self.profile.references:
            return f"the profile {self.profile.name}"
        return SCHEMA if r.declared else "learned"

    def _by_part(self, part: str, what: object) -> str:
        for layer in self._above_profile:
            if layer.adds is not None and what in getattr(layer.adds, part):
                return _called(layer)
        return f"the profile {self.profile.name}" if what in getattr(self.profile, part) else "learned"


def _called(layer: Layer) -> str:
    return SAID if layer.name not in ("learned", "since") else layer.name


def _place(r: Reference) -> str:
    if r.pattern is not None and r.path is None:
        return "a number in its text" if not r.where else f"a number in its text ({', '.join(v for _, v in r.where)})"
    rows = "".join(f"[{c}={v}]" for c, v in r.where)
    return "/".join(("it" + rows, *(r.path or ())))
