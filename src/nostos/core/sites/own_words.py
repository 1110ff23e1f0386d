"""How a staging copy's text files speak of it, and how they would speak of live."""

from __future__ import annotations

from nostos.core.anchor.store import Anchor
from nostos.core.files.words import Words
from nostos.core.sites.copy_configuration import rules
from nostos.core.sites.recognise import Site
from nostos.core.values.rewriting import rewritten
from nostos.core.values.urls import UrlForms

_RULES = (".htaccess", ".ini", ".config", ".conf")
_FACT = "words"


def words_of(live: UrlForms, copy: UrlForms) -> Words:
    """The words of a copy, which answers to `copy`, of a site that answers to `live`."""
    def change(old: UrlForms, new: UrlForms, name: str, text: str) -> str:
        if name.endswith(_RULES):
            return rules(text, old, new)
        return rewritten(text, old, new) if old.occurs(text) else text

    return Words(lambda name, text: change(copy, live, name, text), lambda name, text: change(live, copy, name, text))


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
