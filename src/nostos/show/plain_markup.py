"""Markup made plain: the words that a reader of a page would see, a paragraph a line."""

from __future__ import annotations

from collections.abc import Sequence
from html.parser import HTMLParser

from nostos.core.expressions import expression

_MARKUP = expression(r"</?[A-Za-z][^<>]*>|<!--")
_LONGEST = 400_000  # characters: a longer text is shown as it stands
_LINES = frozenset(("address", "article", "aside", "blockquote", "br", "caption", "dd", "div", "dl", "dt", "fieldset",
                    "figcaption", "figure", "footer", "form", "h1", "h2", "h3", "h4", "h5", "h6", "header", "hr", "li",
                    "main", "nav", "ol", "p", "pre", "section", "table", "tbody", "td", "tfoot", "th", "thead", "tr",
                    "ul"))
_UNSEEN = frozenset(("script", "style", "template", "head"))


class _MarkupReader(HTMLParser):
    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.parts: list[str] = []
        self.unseen = 0

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag in _UNSEEN:
            self.unseen += 1
        if tag in _LINES:
            self.parts.append("\n- " if tag == "li" else "\n")
        if tag == "img":
            named = dict(attrs)
            called = named.get("alt") or (named.get("src") or "").rpartition("/")[2]
            self.parts.append(f" [picture{': ' if called else ''}{called}] ")

    def handle_endtag(self, tag: str) -> None:
        if tag in _UNSEEN:
            self.unseen = max(0, self.unseen - 1)
        if tag in _LINES:
            self.parts.append("\n")

    def handle_data(self, data: str) -> None:
        if not self.unseen:
            self.parts.append(data)


def made_plain(text: str) -> str:
    """A text without its markup; as it stands where it has none, or would say nothing."""
    if len(text) > _LONGEST or not _MARKUP.search(text):
        return text
    reader = _MarkupReader()
    reader.feed(text)
    reader.close()
    lines = (" ".join(line.split()) for line in "".join(reader.parts).split("\n"))
    return "\n".join(line for line in lines if line not in ("", "-")) or text


def all_plain(texts: Sequence[str]) -> list[str]:
    """Versions of one text without their markup; as they stand where nothing else tells two of them apart."""
    plain = [made_plain(t) for t in texts]
    return plain if len({*plain}) == len({*texts}) else list(texts)
