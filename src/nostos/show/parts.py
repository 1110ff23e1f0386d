"""Showing versions side by side."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.text import Text

from nostos.core.anchor.names import Side
from nostos.core.patterns import clean
from nostos.show.tables import heading, table

if TYPE_CHECKING:
    from rich.console import Console

    from nostos.around.versions import PartState, PartVersions

_NAMED = 3


def versions(console: Console, parts: Sequence[PartVersions]) -> None:
    if not parts:
        console.print("Every part is the same everywhere.")
        return
    rows = []
    for part in parts:
        says = []
        if part.newer is not None:
            says.append(f"newer {'in staging' if part.newer is Side.STAGING else 'on live'}")
        for side, state in (("live", part.live), ("staging", part.staging)):
            if state and state.edited:
                says.append(f"edited by hand on {side}: {_some(state.edited)}")
        if part.live and part.staging and part.live.enabled != part.staging.enabled:
            says.append(f"in use {'in staging' if part.staging.enabled else 'on live'} only")
        if part.brought:
            says.append(f"came along: {_some(part.brought)}")
        style = "bold" if part.moved else ""
        rows.append((Text(f"{part.kind}/{clean(part.name)}", style=style), _said(part.anchor), _said(part.live),
                     _said(part.staging), "; ".join(says) or "the same"))
    heading(console, "Versions: at the anchor, on live, in staging")
    table(console, ("", "anchor", "live", "staging", ""), rows, keep=(0, 1, 2, 3))


def _said(state: PartState | None) -> str:
    if state is None:
        return "not there"
    use = {True: ", in use", False: ", off", None: ""}[state.enabled]
    return f"{state.version or 'says none'}{use}"


def _some(names: Sequence[str]) -> str:
    more = f" and {len(names) - _NAMED} more" if len(names) > _NAMED else ""
    return ", ".join(clean(n) for n in names[:_NAMED]) + more
