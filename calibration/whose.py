"""Fits the weights of whose rows are whose on half of the labelled systems and measures them on the other half.

    python -m calibration.whose FOLDER [--write]
"""

from __future__ import annotations

import argparse
import math
import tempfile
import tomllib
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from fnmatch import fnmatchcase
from pathlib import Path

import tomlkit

from calibration.measure import FITTING, MEASURING, TARGET, Known, known
from nostos.core.learning import evidence, whose
from nostos.core.profiles.from_schema import NO_PROFILE

LABELS = tomllib.loads((Path(__file__).parent / "labels/whose.toml").read_text())
LEAST, DOUBT, FIRM, OTHERWISE = 2, -1.4, 1.5, 6.0  # tables that a feature must be seen on; see `whose`


@dataclass
class Labelled:
    system: Known
    said: dict[str, str]  # by table: "visitors", "editors" or "accounts"


def labelled(folder: Path, names: tuple[str, ...], scratch: Path) -> Iterator[Labelled]:
    for name in names:
        system = known(folder, name, 0, scratch) if name in LABELS else None
        if system is not None:
            yield Labelled(system, dict(labels(LABELS[name], system.weigher.every)))


def labels(said: Mapping[str, list[str]], tables: Mapping[str, object]) -> Iterator[tuple[str, str]]:
    for table in tables:
        hit = [what for what in ("accounts", "visitors", "unclear") if any(
            fnmatchcase(table, p) for p in said.get(what, ()))]
        if table in said.get("unclear", ()):
            continue
        if hit[:1] != ["unclear"]:
            yield table, hit[0] if hit else "editors"


def fitted(some: list[Labelled]) -> dict[str, float]:
    counts = {"visitors": Counter[str](), "editors": Counter[str]()}
    every = Counter[str]()
    for one in some:
        alike = set()  # tables of one make count once
        for table, what in one.said.items():
            found = frozenset(whose.features(one.system.weigher.every[table], one.system.samples[table]))
            if what in counts and (what, found) not in alike:
                alike.add((what, found))
                every[what] += 1
                counts[what].update(found)
    weights = {}
    for feature in sorted({*counts["visitors"], *counts["editors"]}):
        v, e = counts["visitors"][feature], counts["editors"][feature]
        if v + e >= LEAST:
            weights[feature] = round(math.log2((v + 0.5) / (every["visitors"] + 1))
                                     - math.log2((e + 0.5) / (every["editors"] + 1)), 2)
    return {"prior": round(math.log2(every["visitors"] / every["editors"]), 2), "doubt": DOUBT,
            "firm": FIRM, "otherwise": OTHERWISE, **weights}


def report(some: list[Labelled]) -> str:
    lines, home, held, totals = [], [], [], Counter[str]()
    for one in some:
        s = one.system
        sure = [f for place, called, seen, _ in s.places
                if (f := s.weigher.finding(place, called, seen)) is not None]
        found = whose.whose(s.weigher.every.values(), s.samples, sure, NO_PROFILE, s.weigher.people)
        for table, what in one.said.items():
            totals[what] += 1
            if what != "editors" and table in found.editors:
                home.append(f"{s.name}: {table} ({what}): {found.why[table]}")
            if what == "editors" and table not in found.editors:
                held.append(f"{s.name}: {table}: {found.why[table]}")
    lines.append(f"{totals['visitors']} visitors', {totals['accounts']} of accounts: {len(home)} go home unnamed; "
                 f"{totals['editors']} editors': {len(held)} held back ({len(held) / max(totals['editors'], 1):.1%})")
    return "\n".join((*lines, "  go home:", *(f"    {h}" for h in home), "  held back:", *(f"    {h}" for h in held)))


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("folder", type=Path)
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as scratch:
        fitting = list(labelled(options.folder, FITTING, Path(scratch)))
        weights = fitted(fitting)
        evidence.WEIGHTS["whose"] = weights
        print("fitting:", report(fitting))
        print("measuring:", report(list(labelled(options.folder, MEASURING, Path(scratch)))))
    if options.write:
        document = tomlkit.parse(TARGET.read_text())
        table = tomlkit.table()
        for feature, bits in weights.items():
            table[feature] = bits
        document["whose"] = table
        TARGET.write_text(tomlkit.dumps(document))
    for feature, bits in sorted(weights.items(), key=lambda w: -w[1]):
        print(f"  {bits:+.2f} {feature}")


if __name__ == "__main__":
    main()
