"""How a voyage's staging copy was made to speak of itself."""

from __future__ import annotations

from nostos.core.anchor.store import Anchor
from nostos.core.sites.own_words import words_of
from nostos.core.sites.recognise import Site
from nostos.core.values.urls import UrlForms

_FACT = "words"


def remember(anchor: Anchor, live: UrlForms, copy: UrlForms) -> None:
    """Keep how a copy was made to speak."""
    said = [[f.own.scheme + "://" + f.own.rest, f.folder.path] for f in (live, copy)]
    anchor.set_fact(_FACT, said)


def speak(anchor: Anchor, staging: Site) -> None:
    """Let a staging copy's files be read and written in live's words, if it was made to speak its own."""
    said = anchor.fact(_FACT)
    if said:
        (url, folder), (own, own_folder) = said
        staging.files.words = words_of(UrlForms(url, folder=folder), UrlForms(
            own, (url,), own_folder, (folder,) if folder else ()))
