"""Fits the weights of learning on half of the described systems and measures them on the other half.

    python -m calibration.measure FOLDER [--write] [--seeds N]

FOLDER holds what `describe.py` told of each system. --write puts the weights where learning reads them.
"""

from __future__ import annotations

import argparse
import json
import math
import tempfile
from collections import Counter, defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path

import tomlkit

from calibration.fill import Filler
from nostos.core.database.schema import Row, Table
from nostos.core.engines.sqlite.connection import SqliteDatabase
from nostos.core.learning import evidence
from nostos.core.learning.evidence import Weigher
from nostos.core.learning.places import ROWS, Held, places
from nostos.core.profiles.places import Place
from nostos.core.values import words

FITTING = ("shuup", "machina", "wiki", "evennia", "superset2", "kotti", "wagtail", "rt", "cacti")
MEASURING = ("mezzanine", "helpdesk", "misago", "airflow", "mayan", "indico", "oscar", "roundcube", "ttrss")
BY_HAND = frozenset({"form", "said", "copied", "keys", "kinds"})  # sources whose weights are not fitted here
FEW, BARE = 4, 4.0  # cases from which on a tier is fitted by itself; bits that a name without an "id" is worth less
OF_TABLES = frozenset({"type", "name", "missed", "reach"})  # sources that say something of one table
TARGET = Path(evidence.__file__).parent / "weights.toml"


@dataclass
class Known:
    """A filled system: its places with what is true of each: a table, "" for plain numbers."""

    name: str
    weigher: Weigher
    samples: dict[str, list[Row]]
    places: list[tuple[Place, str, Held, tuple[str, ...]]]  # with the tables that are right; none: plain numbers


    def yes_or_no(self, place: Place) -> bool:
        column = self.weigher.every[place.table].column(place.column)
        return column is not None and bool(evidence.YES_OR_NO.search(column.declared))


def known(folder: Path, name: str, seed: int, scratch: Path) -> Known | None:
    described = folder / f"{name}.json"
    if not described.is_file():
        return None
    path = scratch / f"{name}-{seed}.db"
    filler = Filler(json.loads(described.read_text()), path, seed)
    filler.fill()
    database = SqliteDatabase.open_path(path) if hasattr(SqliteDatabase, "open_path") else SqliteDatabase(path)
    tables: dict[str, Table] = {n: replace(t, foreign_keys=()) for n, t in database.tables().items()}
    samples = {n: database.sample(t, ROWS) for n, t in tables.items()}
    weigher = Weigher(database, tables, (), samples)
    found = []
    for n, table in tables.items():
        for place, called, seen in places(table, samples[n]):
            if place.where or place.path or not (seen.numbers or (n, place.column) in filler.truth):
                continue
            at = (n, place.column)
            if at in filler.truth and tables[filler.truth[at][0]].surrogate:
                found.append((place, called, seen, filler.truth[at]))
            elif at in filler.plain and not words.says_id(place.column):  # else it may point where nothing declares
                found.append((place, called, seen, ()))
    return Known(name, weigher, samples, found)


def fitted(systems: list[Known]) -> dict[str, dict[str, float]]:
    """Weights by source and category: log2 of how much more often a category is seen where the place points at the
    table than where it holds plain numbers."""
    refs: dict[str, Counter[str]] = defaultdict(Counter)
    plain: dict[str, Counter[str]] = defaultdict(Counter)
    places_of = Counter[bool]()
    for s in systems:
        for place, called, seen, truth in s.places:
            places_of[bool(truth)] += 1
            for goal in s.weigher.tables:
                right, first = goal in truth[:1], goal == next(iter(s.weigher.tables))
                for source, category, _, _ in s.weigher.features(place, called, seen, goal):
                    if category.startswith("kind") or source in BY_HAND:
                        continue  # kinds of made-up rows say nothing
                    if category != "yes or no" and s.yes_or_no(place) and source != "name":
                        continue  # its type alone decides
                    if right:
                        refs[source][category] += 1
                    elif (source == "name" and goal not in truth) or (  # by chance, wherever it really points
                            not truth and (first or source in OF_TABLES)):
                        plain[source][category] += 1
    weights: dict[str, dict[str, float]] = {}
    for source in sorted(refs | plain):
        if source in BY_HAND:
            continue
        every = sorted({*refs[source], *plain[source]})
        a, b = sum(refs[source].values()), sum(plain[source].values())
        some = 1 / len(every)  # added to each count (W. Perks, *Some Observations on Inverse Probability*, 1947)
        weights[source] = {c: round(math.log2((refs[source][c] + some) / (a + 1))
                                    - math.log2((plain[source][c] + some) / (b + 1)), 2) for c in every}
    for tier in ("same", "same in app", "tail", "head", "person"):  # too few to be fitted: from the next one
        if refs["name"][tier] < FEW and f"{tier}+id" in weights["name"]:
            weights["name"][tier] = round(weights["name"][f"{tier}+id"] - BARE, 2)
    for tier in ("kind", "kind+id", "told", "kind as others", "kind as others+id"):  # as what is called after a part
        bare = "tail" if tier.endswith(("kind", "others")) else "tail+id"
        weights["name"].setdefault(tier, round(
            weights["name"][bare] - (BARE if "kind" in tier else 0) - (BARE if "others" in tier else 0), 2))
    for tier, bits in list(weights["name"].items()):  # a name that may be a count's: nearer to nothing
        if "measure" not in tier and not tier.endswith("+id") and bits > 0:
            weights["name"].setdefault(f"{tier} or measure", round(bits - BARE, 2))
    weights["scale"] = {"bits": 0.92, "prior": round(math.log2(places_of[True] / places_of[False]), 2)}
    return weights


def findings(systems: list[Known]) -> Iterator[tuple[str, Place, tuple[str, ...], str, float, bool]]:
    """Each place: what is true, what was found (a table, "" for plain), its bits, and whether it counts as sure."""
    for s in systems:
        for _ in range(2):
            s.weigher.know((place, called, seen) for place, called, seen, _ in s.places)
        for place, called, seen, truth in s.places:
            weighed = s.weigher.weigh(place, called, seen)
            if weighed.sure():
                yield s.name, place, truth, weighed.best, weighed.odds(weighed.best), True
            elif weighed.is_plain():
                yield s.name, place, truth, "", -weighed.odds_of_any(), True
            else:
                yield s.name, place, truth, weighed.best, weighed.odds(weighed.best), False


def report(systems: list[Known], most: int = 40) -> str:
    sure = right = refs = hit = open_ = open_refs = offered = plain = 0
    wrong = []
    for name, place, truth, said, bits, is_sure in findings(systems):
        refs += bool(truth)
        is_right = said in truth if truth else not said
        plain += not truth
        if is_sure:
            sure += 1
            right += is_right
            hit += bool(truth) and is_right
            if not is_right:
                wrong.append(f"{name}: {place}: is {truth[0] if truth else 'plain'}, taken for {said or 'plain'}, "
                             f"{bits:.0f} bits")
        else:
            open_ += 1
            open_refs += bool(truth)
            offered += said in truth
    lines = [f"{refs} references, {plain} plain; sure {sure}, right {right} ({right / max(sure, 1):.2%}); references "
             f"found {hit / max(refs, 1):.1%}; open {open_}, of which references {open_refs}, "
             f"with the right table first {offered} ({(hit + offered) / max(refs, 1):.1%} found or offered)"]
    return "\n".join((*lines, *wrong[:most]))


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("folder", type=Path)
    parser.add_argument("--write", action="store_true")
    parser.add_argument("--seeds", type=int, default=1)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as scratch:
        def some(names: tuple[str, ...], seeds: range) -> list[Known]:
            return [k for seed in seeds for name in names
                    if (k := known(options.folder, name, seed, Path(scratch))) is not None]

        fitting = some(FITTING, range(options.seeds))
        weights = fitted(fitting)
        evidence.WEIGHTS.update(weights)
        print("fitting:", *(k.name for k in fitting))
        print(report(fitting))
        measuring = some(MEASURING, range(100, 100 + options.seeds))
        print("measuring:", *(k.name for k in measuring))
        print(report(measuring))
    if options.write:
        document = tomlkit.parse(TARGET.read_text())
        for source, by_category in weights.items():
            table = tomlkit.table()
            for category, bits in by_category.items():
                table[category] = bits
            document[source] = table
        TARGET.write_text(tomlkit.dumps(document))


if __name__ == "__main__":
    main()
