"""A staging copy replaced with a new one of live."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import replace

from nostos.core.anchor.copy_words import further as further_addresses
from nostos.core.anchor.store import Anchor
from nostos.core.clone.clone import clone
from nostos.core.clone.options import CloneOptions, CloneResult
from nostos.core.clone.remove import check_removable, remove
from nostos.core.database.registry import MadePlace
from nostos.core.errors import SiteError, VoyageError
from nostos.core.progress import Listener, silent
from nostos.core.sites.lock import check_finished
from nostos.core.sites.recognise import recognise
from nostos.core.voyages.home import Home, Voyage


def afresh(home: Home, voyage: Voyage, tell: Listener = silent) -> CloneResult:
    """Replace a voyage's staging copy with a new one of live, in the same place, under the same name and URL.

    What was not merged is gone. Raises as `clone` does; live is recognised before anything is removed.
    """
    check_finished(recognise(voyage.live))
    check_removable(home, voyage.name)
    options = CloneOptions()
    with suppress(VoyageError):
        anchor = Anchor(home.folder(voyage.name) / "anchor.db")
        options = _options_of(anchor)
        anchor.close()
    with suppress(SiteError):
        staging = recognise(voyage.staging)
        if voyage.made == MadePlace.TABLES:  # a place that the user named: only they can name it
            options = replace(options, database=staging.database.url.render_as_string(hide_password=False),
                              prefix=staging.database.prefix)
    with home.lock(voyage.name):
        left = remove(home, voyage)
    if left:
        raise VoyageError(f"Staging could not be removed: {'; '.join(left)}.", left="Live was not touched.",
                          next_step="Remove what is left by hand, then clone again.")
    return clone(home, voyage.live, voyage.name, voyage.into, voyage.url, options, tell)


def _options_of(anchor: Anchor) -> CloneOptions:
    """How a copy was made, as its anchor remembers it; but for where its tables are."""
    return CloneOptions(
        skip=tuple(anchor.fact("skip") or ()), mask=bool(anchor.fact("mask")), gate=str(anchor.fact("gate") or ""),
        follow_links=tuple(anchor.fact("followed") or {}), skip_rows=tuple(anchor.fact("skip_rows") or ()),
        over=bool(anchor.fact("over")), of_site=str(anchor.fact("network_site") or ""),
        addresses=dict(zip(*further_addresses(anchor), strict=True)))
