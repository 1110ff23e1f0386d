"""How a staging copy's text files speak of it, and how they would speak of live."""

from __future__ import annotations

from nostos.core.files.words import RULES, Words
from nostos.core.sites.copy_configuration import rules
from nostos.core.values.rewriting import rewritten
from nostos.core.values.urls import UrlForms


def words_of(live: UrlForms, copy: UrlForms) -> Words:
    """The words of a copy, which answers to `copy`, of a site that answers to `live`."""
    def change(old: UrlForms, new: UrlForms, name: str, text: str) -> str:
        if name.endswith(RULES):
            return rules(text, old, new)
        return rewritten(text, old, new) if old.occurs(text) else text

    return Words(lambda name, text: change(copy, live, name, text), lambda name, text: change(live, copy, name, text))
