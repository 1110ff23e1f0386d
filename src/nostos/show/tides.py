"""Showing when live is quiet: in the terminal, and as a figure."""

from __future__ import annotations

import math
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from rich.text import Text

from nostos.around.tide import DAYS, HOURS, Rate, Tide, label, visits
from nostos.core.errors import SiteError
from nostos.core.patterns import clean
from nostos.show.tables import count, heading, table

if TYPE_CHECKING:
    from rich.console import Console

_SHADES = " .:-=+*#%@"  # from nothing to the most, readable without colour


def tide(console: Console, tide: Tide) -> None:
    heading(console, f"{tide.site}: what visitors did, by hour of the week",
            f"{tide.since[:10]} to {tide.until[:10]}, clocks of {tide.zone}")
    totals = ", ".join(f"{c.total:,} {c.name}" for c in tide.counts)
    console.print(f"  {totals}." + (f" Times that cannot be read: {tide.passed:,}." if tide.passed else ""))
    console.print()
    rates = per_hour(tide)
    most = max([r for r in rates if r is not None], default=0.0)
    console.print(Text("       " + "".join(f"{h:<6}" for h in range(0, 24, 3)), style="dim"))
    quiet = {(w.start + n) % HOURS for w in tide.windows[:1] for n in range(w.hours)}
    for day, name in enumerate(DAYS):
        line = Text(f"  {name}  ")
        for hour in range(24):
            at = day * 24 + hour
            value = rates[at]
            shade = "?" if value is None else _SHADES[
                min(len(_SHADES) - 1, math.ceil(value / most * (len(_SHADES) - 1))) if most else 0]
            line.append(shade * 2, style="reverse" if at in quiet else "")
        console.print(line)
    console.print(Text(f"  blank: nothing; @: {most:.2f} an hour; reversed: the quietest window", style="dim"))
    console.print()
    if tide.sparse:
        console.print(Text(f"Sparse: {tide.sparse}", style="yellow"))
    heading(console, f"Quietest windows of {count(tide.windows[0].hours if tide.windows else 0, 'hour')}",
            "expected in one window, and an interval that holds it in 90 of 100 cases")
    names = [c.name for c in tide.counts if c.total]
    rows = [(label(w.start), next_one(w.next), _rate(w.all), *(_rate(w.rates[n]) for n in names))
            for w in tide.windows]
    if tide.busiest is not None:
        w = tide.busiest
        rows.append((f"busiest: {label(w.start)}", "", _rate(w.all), *(_rate(w.rates[n]) for n in names)))
    table(console, ("window", "next", "all that visitors do", *names), rows, keep=(0, 1))


def next_one(text: str) -> str:
    return f"{datetime.fromisoformat(text):%Y-%m-%d %H:%M %z}"


def _rate(value: Rate) -> str:
    return f"{value.expected:.2f} ({value.low:.2f}-{value.high:.2f})"


def per_hour(tide: Tide) -> list[float | None]:
    """What visitors do in one hour, by hour of the week; None where the period had no such hour."""
    return [n / e if e else None for n, e in zip(visits(tide.counts), tide.exposure, strict=True)]


def figure(tide: Tide, path: Path) -> None:
    """Draw it. Raises SiteError for an ending other than .png and .svg, or when it cannot be written."""
    if path.suffix not in (".png", ".svg"):
        raise SiteError(f"A figure cannot be drawn as {path.suffix or 'a file without an ending'}.",
                        next_step="Name a file that ends in .png or .svg.")
    import matplotlib as mpl

    mpl.use("Agg")
    import matplotlib.pyplot as plt
    import numpy as np
    from matplotlib.patches import Rectangle

    values = np.array([math.nan if v is None else v for v in per_hour(tide)]).reshape(7, 24)
    drawn, (map_, bars) = plt.subplots(2, 1, figsize=(12.8, 8), height_ratios=(5, 2), layout="constrained")
    shades = plt.get_cmap("YlGnBu").with_extremes(bad="#dddddd")
    image = map_.imshow(values, aspect="auto", cmap=shades, vmin=0)
    drawn.colorbar(image, ax=map_, label="things that visitors did, an hour", pad=0.01)
    map_.set_yticks(range(7), DAYS)
    map_.set_xticks([h - 0.5 for h in range(0, 25, 3)], [f"{h}:00" for h in range(0, 25, 3)])
    for number, window in enumerate(tide.windows, start=1):
        for n in range(window.hours):
            at = (window.start + n) % HOURS
            map_.add_patch(Rectangle((at % 24 - 0.5, at // 24 - 0.5), 1, 1, fill=False, edgecolor="#c0392b",
                                     linewidth=2.5 if number == 1 else 1.2))
        map_.text(window.start % 24 - 0.35, window.start // 24 + 0.1, str(number), color="#c0392b", fontsize=11,
                  fontweight="bold", va="center")
    map_.set_title(f"{clean(tide.site)}: when live is quiet  ({tide.since[:10]} to {tide.until[:10]}, "
                   f"clocks of {tide.zone})", loc="left", fontsize=14, parse_math=False)
    compared = [*tide.windows, *([tide.busiest] if tide.busiest else [])]
    names = [f"{n}: {label(w.start)}" for n, w in enumerate(tide.windows, start=1)]
    names += [f"busiest: {label(tide.busiest.start)}"] if tide.busiest else []
    expected = [w.all.expected for w in compared]
    spread = [[w.all.expected - w.all.low for w in compared],
              [min(w.all.high, 1e6) - w.all.expected for w in compared]]
    bars.barh(names, expected, xerr=spread, color="#7fb8c4", ecolor="#333333", capsize=4)
    bars.invert_yaxis()
    hours = tide.windows[0].hours if tide.windows else 0
    bars.set_xlabel(f"expected in a window of {count(hours, 'hour')}, and an interval that holds it in 90 of 100 cases")
    bars.set_title(clean(tide.sparse) if tide.sparse else "The quietest windows, and the busiest", loc="left",
                   fontsize=10, wrap=True, parse_math=False)
    for side in ("top", "right"):
        bars.spines[side].set_visible(False)
    try:
        drawn.savefig(path, dpi=100, metadata={"Date": None} if path.suffix == ".svg" else None)
    except OSError as error:
        raise SiteError(f"The figure {path} cannot be written: {error.strerror}.",
                        next_step="Name another file with --figure.") from error
    finally:
        plt.close(drawn)
