"""The base URL in every way it is written, replaced with a neutral token and back.

A token stands for one written form: which scheme (the site's own, the other one, none with slashes, none at all) and
how slashes and colons are escaped (plain, JSON once or twice, percent-encoded). Replacing with tokens and writing them
for the same site again gives the very same text.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import cached_property
from urllib.parse import urlsplit

from nostos.core.values.tokens import CLOSE, OPEN

_TOKEN = re.compile(f"{OPEN}u:([oant])([0-9])([ul]){CLOSE}")
_SLASHES = ("/", "\\/", "\\\\/", "\\\\\\/", "%2F")
_PERCENT = 4


class BaseUrl:
    """One site's base URL, such as `https://kestrel-ridge.example` or `http://127.0.0.1:8102/staging`."""

    def __init__(self, url: str) -> None:
        parts = urlsplit(url)
        self.scheme = parts.scheme
        self.rest = parts.netloc + parts.path.rstrip("/")
        # The ways in which the host's name is written; without it, the URL is not there.
        self.names = tuple(dict.fromkeys(parts.netloc.replace(":", colon) for colon in (":", "%3A", "%3a")))
        # A bare name is only taken for the site's when it cannot be a plain word.
        self.bare = "." in parts.netloc or ":" in parts.netloc

    def written(self, form: str, slash: int, case: str) -> str:
        """The URL in one form: o own scheme, a the other scheme, n no scheme but slashes, t the bare name."""
        other = "http" if self.scheme == "https" else "https"
        head = {"o": f"{self.scheme}://", "a": f"{other}://", "n": "//", "t": ""}[form]
        text = (head + self.rest).replace("/", _SLASHES[slash])
        if slash == _PERCENT:
            text = text.replace(":", "%3A")
            if case == "l":
                text = text.replace("%2F", "%2f").replace("%3A", "%3a")
        return text

    def forms(self) -> list[tuple[str, str]]:
        """Every written form with its token's code, without repeats."""
        found: dict[str, str] = {}
        for slash in range(len(_SLASHES)):
            for case in "ul" if slash == _PERCENT else "u":
                for form in "oant" if self.bare else "oan":
                    found.setdefault(self.written(form, slash, case), f"{form}{slash}{case}")
        return list(found.items())


class UrlForms:
    """Finds and writes one site's base URL; `also` are URLs that mean the same site when they are found there."""

    def __init__(self, url: str, also: tuple[str, ...] = ()) -> None:
        self.own = BaseUrl(url)
        self._all = [self.own, *(BaseUrl(u) for u in also)]
        self._written: dict[UrlForms, dict[str, str]] = {}

    @cached_property
    def _tokens(self) -> dict[str, str]:
        return {text: f"{OPEN}u:{code}{CLOSE}" for text, code in self._codes.items()}

    @cached_property
    def _codes(self) -> dict[str, str]:
        codes: dict[str, str] = {}
        for base in self._all:
            for text, code in base.forms():
                codes.setdefault(text, code)
        return codes

    @cached_property
    def _pattern(self) -> re.Pattern[str]:
        schemed: list[str] = []
        bare: list[str] = []
        for text, code in self._codes.items():
            (bare if code[0] == "t" else schemed).append(re.escape(text))
        # The longest first: a staging URL may begin with live's. A host must end where the name ends: neither
        # `example.org` in `example.organic`, nor `:80` in `:8080`. A bare name is no part of a longer name or address.
        ahead = r"(?![\w-])(?!\.\w)(?!:\d)(?!%3[Aa]\d)"
        longest = "|".join(sorted(schemed, key=len, reverse=True))
        pattern = f"(?<![\\w:])(?:{longest}){ahead}|(?<=:)(?:{longest}){ahead}"
        if bare:
            pattern += f"|(?<![\\w@./:%\\\\-])(?:{'|'.join(sorted(bare, key=len, reverse=True))}){ahead}(?!@)"
        return re.compile(pattern)

    @cached_property
    def names(self) -> tuple[str, ...]:
        """The ways in which the host's name is written. A text without any of them does not hold the URL."""
        return tuple(dict.fromkeys(n for base in self._all for n in base.names))

    def occurs(self, text: str) -> bool:
        """A cheap look for whether the URL may be in the text."""
        for name in self.names:  # noqa: SIM110 - a generator here costs more than the search
            if name in text:
                return True
        return False

    def to_tokens(self, text: str) -> str:
        """The text with every form of the base URL replaced by its token."""
        return self._replaced(text, self._tokens)

    def written_for(self, text: str, other: UrlForms) -> str:
        """The text with every form of the base URL written as another site's."""
        found = self._written.get(other)
        if found is None:
            found = self._written[other] = {
                text: other.own.written(code[0], int(code[1]), code[2]) for text, code in self._codes.items()}
        return self._replaced(text, found)

    def _replaced(self, text: str, forms: Mapping[str, str]) -> str:
        """The text with every form of the base URL replaced by what stands beside it."""
        if not self.occurs(text):
            return text
        names, (head, longest) = self.names, self._reach
        parts: list[str] = []
        done = at = 0
        # Only the neighbourhoods of the host's name are matched: a long text holds few of them.
        while True:
            places = [found for n in names if (found := text.find(n, at)) >= 0]
            if not places:
                break
            at = min(places)
            match = self._pattern.search(text, max(done, at - head), at + longest)
            if match is None or match.start() > at:
                at += 1
                continue
            parts += [text[done:match.start()], forms[match.group()]]
            done = at = match.end()
        return "".join([*parts, text[done:]]) if parts else text

    @cached_property
    def _reach(self) -> tuple[int, int]:
        """How far a form reaches before the host's name, and from there to its end and what must not follow."""
        heads = [text.find(n) for text in self._codes for n in self.names if n in text]
        return max(heads), max(map(len, self._codes)) + 8

    def from_tokens(self, text: str) -> str:
        """The text with every token written as this site's URL."""
        if OPEN not in text:
            return text
        return _TOKEN.sub(lambda m: self.own.written(m.group(1), int(m.group(2)), m.group(3)), text)
