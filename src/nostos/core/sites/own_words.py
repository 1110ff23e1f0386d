"""How a staging copy's text files speak of it, and how they would speak of live."""

from __future__ import annotations

from collections.abc import Collection

from nostos.core.files.words import RULES, Words, ending
from nostos.core.sites.copy_configuration import rules
from nostos.core.sites.database_words import DatabaseWords
from nostos.core.values.rewriting import rewritten
from nostos.core.values.urls import UrlForms


def words_of(live: UrlForms, copy: UrlForms, databases: tuple[DatabaseWords, DatabaseWords] | None = None,
             naming: Collection[str] = ()) -> Words:
    """The words of a copy, which answers to `copy`, of a site that answers to `live`. databases: live's and the copy's.
    naming: the paths of files that name them."""
    also = frozenset(naming)

    def change(old: UrlForms, new: UrlForms, path: str, text: str, back: bool) -> str:
        if databases is not None and path in also:
            text = databases[back].written_for(text, databases[not back])
        if not ending(path):
            return text
        if path.lower().endswith(RULES):
            return rules(text, old, new)
        return rewritten(text, old, new) if old.occurs(text) else text

    return Words(lambda path, text: change(copy, live, path, text, True),
                 lambda path, text: change(live, copy, path, text, False), also)
