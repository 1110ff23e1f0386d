"""How a voyage's staging copy was made to speak of itself."""

from __future__ import annotations

from collections.abc import Collection

from nostos.core.anchor.store import Anchor
from nostos.core.sites.database_words import DatabaseWords
from nostos.core.sites.own_words import words_of
from nostos.core.sites.recognise import Site
from nostos.core.values.urls import UrlForms

_FACT, _NAMING = "words", "naming"


def remember(anchor: Anchor, live: UrlForms, copy: UrlForms, naming: Collection[str] = ()) -> None:
    """Keep how a copy was made to speak. naming: the files that name its database; what they say of it, is the sites'
    own and is not kept."""
    anchor.set_fact(_NAMING, sorted(naming))
    written = [[f.own.url, f.folder.path, *(base.url for base in f.bases[1:])] for f in (live, copy)]
    anchor.set_fact(_FACT, written)


def further(anchor: Anchor) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """The further addresses of live, and those of the copy, in one order."""
    live, copy = anchor.fact(_FACT) or ((), ())
    return tuple(live[2:]), tuple(copy[2:])


def speak(anchor: Anchor, live: Site | None, staging: Site) -> None:
    """Let a staging copy's files be read and written in live's words, if it was made to speak its own. live: None where
    it is not to be had."""
    fact = anchor.fact(_FACT)
    if fact:
        databases = None if live is None else (DatabaseWords.of(live.database), DatabaseWords.of(staging.database))
        (url, folder, *path), (folder_url, own_folder, *here) = fact
        staging.files.words = words_of(
            UrlForms(url, folder=folder, further=[(u,) for u in path]),
            UrlForms(folder_url, (url,), own_folder, (folder,) if folder else (), list(zip(here, path, strict=True))),
            databases, anchor.fact(_NAMING) or ())
