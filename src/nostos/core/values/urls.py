"""The base URL in every way it is written, replaced with a neutral token and back.

A token stands for one written form: which scheme (the site's own, the other one, none with slashes, none at all) and
how slashes and colons are escaped (plain, JSON once or twice, percent-encoded, by their number). Replacing with tokens
and writing them for the same site again gives the very same text. The absolute path of a site's folder is found and
written alike; and a site's address may be kept in pieces, each as a whole value. A site may have further addresses,
such as those of other sites of its installation: each has a number, which is the same on both sides.
"""

from __future__ import annotations

import base64
import re
from collections.abc import Collection, Mapping, Sequence
from functools import cached_property
from urllib.parse import urlsplit

from nostos.core.expressions import expression
from nostos.core.values import names
from nostos.core.values.names import Names
from nostos.core.values.tokens import CLOSE, OPEN

_TOKEN = expression(f"{OPEN}u:([oantf])([0-9])([ul])([0-9]*){CLOSE}")
_PIECE = expression(f"{OPEN}u:(host|port|scheme|path):([tn]){CLOSE}")
_SLASHES = ("/", "\\/", "\\\\/", "\\\\\\/", "%2F", "\\u002F")
_PERCENT, _NUMBERED = 4, 5
_PORTS = {"http": 80, "https": 443}


class BaseUrl:
    """One site's base URL, such as `https://kestrel-ridge.example` or `http://127.0.0.1:8102/staging`."""

    def __init__(self, url: str) -> None:
        parts = urlsplit(url)
        self.scheme = parts.scheme
        self.rest = parts.netloc + parts.path.rstrip("/")
        self.url = f"{self.scheme}://{self.rest}"
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
            text = text.replace("%2F", "%2f").replace("%3A", "%3a").replace("u002F", "u002f")
        return text

    def forms(self) -> list[tuple[str, str]]:
        """Every written form with its token's code, without repeats."""
        forms: dict[str, str] = {}
        for slash in range(len(_SLASHES)):
            for case in "ul" if slash >= _PERCENT else "u":
                for form in "oant" if self.bare else "oan":
                    forms.setdefault(self.written(form, slash, case), f"{form}{slash}{case}")
        return list(forms.items())


class FolderPath:
    """The absolute path of a site's folder, in the ways it is written."""

    def __init__(self, path: str) -> None:
        self.path = path.rstrip("/")

    def written(self, slash: int, case: str) -> str:
        """The folder's path in one of the ways in which it is written."""
        text = self.path.replace("/", _SLASHES[slash])
        return text.replace("%2F", "%2f").replace("u002F", "u002f") if case == "l" else text

    def forms(self) -> list[tuple[str, str]]:
        """Every written form with its token's code. A path of one name may be anything."""
        return [(self.written(slash, case), f"f{slash}{case}") for slash in range(len(_SLASHES))
                for case in ("ul" if slash >= _PERCENT else "u")] if self.path.count("/") > 1 else []


class UrlForms:
    """Finds and writes one site's base URL, and the path of its folder; `also` are URLs, and `folders` paths, that mean
    the same site when they are found there. further: its further addresses, each with others that mean the same.
    called: names that are others on the other side; staging: which side this is."""

    def __init__(self, url: str, also: tuple[str, ...] = (), folder: str = "", folders: tuple[str, ...] = (),
                 further: Sequence[Sequence[str]] = ()) -> None:
        self.own = BaseUrl(url)
        self.folder = FolderPath(folder)
        self.bases = (self.own, *(BaseUrl(first) for first, *_ in further))
        self._all: list[tuple[BaseUrl | FolderPath, str]] = [
            *((BaseUrl(u), "") for u in (url, *also)),
            *((BaseUrl(u), str(number)) for number, every in enumerate(further, start=1) for u in every),
            *((FolderPath(f), "") for f in (folder, *folders))]
        self._written: dict[UrlForms, dict[str, str]] = {}
        self.called = Names()
        self.staging = False

    @cached_property
    def _tokens(self) -> dict[str, str]:
        return {text: f"{OPEN}u:{code}{CLOSE}" for text, code in self._codes.items()}

    @cached_property
    def _codes(self) -> dict[str, str]:
        codes: dict[str, str] = {}
        for base, number in self._all:
            for text, code in base.forms():
                codes.setdefault(text, code + number)
        return codes

    @cached_property
    def _pattern(self) -> re.Pattern[str]:
        schemed: list[str] = []
        bare: list[str] = []
        folders: list[str] = []
        for text, code in self._codes.items():
            (bare if code[0] == "t" else folders if code[0] == "f" else schemed).append(re.escape(text))
        # The longest first: a staging URL may begin with live's. A host must end where the name ends: neither
        # `example.org` in `example.organic`, nor `:80` in `:8080`. A bare name is no part of a longer name or address.
        ahead = r"(?![\w-])(?!\.\w)(?!:\d)(?!%3[Aa]\d)"
        longest = "|".join(sorted(schemed, key=len, reverse=True))
        pattern = f"(?<![\\w:])(?:{longest}){ahead}|(?<=:)(?:{longest}){ahead}"
        if bare:
            pattern += f"|(?<![\\w@./:%\\\\-])(?:{'|'.join(sorted(bare, key=len, reverse=True))}){ahead}(?!@)"
        if folders:  # a whole folder, whatever is below it
            pattern += f"|(?<![\\w./-])(?:{'|'.join(sorted(folders, key=len, reverse=True))})(?![\\w-])(?!\\.\\w)"
        return re.compile(pattern)

    @cached_property
    def names(self) -> tuple[str, ...]:
        """The ways in which the host's name is written. A text without any of them does not hold the URL."""
        names = [n for base, _ in self._all if isinstance(base, BaseUrl) for n in base.names]
        return tuple(dict.fromkeys([*names, *(t for t, code in self._codes.items() if code[0] == "f")]))

    @cached_property
    def hidden(self) -> tuple[str, ...]:
        """What the host's names are in base64, wherever they begin in it."""
        spans = []
        for base, _ in self._all:
            for name in base.names[:1] if isinstance(base, BaseUrl) else ():
                for before in range(3):  # the bytes of a name that share no letter with what is before or after it
                    first, last = -(-before * 4 // 3), (before + len(name)) * 4 // 3
                    spans.append(base64.b64encode(b"\0" * before + name.encode()).decode()[first:last])
        return tuple(n for n in dict.fromkeys(spans) if len(n) >= 8)

    def occurs(self, text: str) -> bool:
        """A cheap look for whether the URL may be in the text."""
        for name in self.names:
            if name in text:
                return True
        for name in self.hidden:  # noqa: SIM110
            if name in text:
                return True
        return False

    @cached_property
    def host(self) -> str:
        """The host's name alone."""
        return self._pieces["host"]

    def pieces(self, number: int = 0) -> dict[str, str]:
        """The address taken apart, as each piece would be kept: of its host, port, scheme and path. number: of a
        further one."""
        base = self.bases[number]
        parts = urlsplit(base.url)
        return {"host": parts.hostname or "", "port": str(parts.port or _PORTS[base.scheme]), "scheme": base.scheme,
                "path": parts.path}

    @cached_property
    def _pieces(self) -> dict[str, str]:
        return self.pieces()

    def where(self) -> tuple[str, ...]:
        """All that tells where the site is: its addresses, and the path of its folder."""
        return (*(base.url for base in self.bases), self.folder.path)

    def piece_token(self, piece: str, value: object) -> str | None:
        """The token for a value that is this piece of the address; None when it is not."""
        piece_url = self._pieces[piece]
        if not piece_url or str(value) != piece_url:
            return None
        return f"{OPEN}u:{piece}:{'n' if isinstance(value, int) else 't'}{CLOSE}"

    def piece(self, value: str) -> str | int | None:
        """This site's own value for such a token; None when it is none."""
        match = _PIECE.fullmatch(value)
        if match is None:
            return None
        piece = self._pieces[match.group(1)]
        return int(piece) if match.group(2) == "n" and piece.isdigit() else piece

    def to_tokens(self, text: str) -> str:
        """The text with every form of the base URL replaced by its token."""
        replaced = self._replaced(text, self._tokens)
        return self.called.to_tokens(replaced, self.staging) if self.called else replaced

    def written_for(self, text: str, other: UrlForms, named: Collection[str] | None = None) -> str:
        """The text with every form of the base URL written as another site's. named: of the names, those that it
        holds, where that is known."""
        forms = self._written.get(other)
        if forms is None:
            forms = self._written[other] = {
                text: other.written(code[0], int(code[1]), code[2], int(code[3:] or 0))
                for text, code in self._codes.items()}
        return self._replaced(text, forms, named)

    def _replaced(self, text: str, forms: Mapping[str, str], named: Collection[str] | None = None) -> str:
        """The text with every form of the base URL replaced by what stands beside it."""
        head, longest = self._reach
        search = self._pattern.search
        parts: list[str] = []
        done = 0
        # Only the neighbourhoods of the host's name are matched: a long text holds few of them.
        ahead = [(place, name) for name in named or self.names if (place := text.find(name)) >= 0]
        while ahead:
            at = min(ahead)[0]
            match = search(text, max(done, at - head), at + longest)
            if match is None or match.start() > at:
                after = at + 1
            else:
                parts += (text[done:match.start()], forms[match.group()])
                done = after = match.end()
            ahead = [(place, name) for was, name in ahead
                     if (place := was if was >= after else text.find(name, after)) >= 0]
        if not parts:
            return text
        parts.append(text[done:])
        return "".join(parts)

    @cached_property
    def _reach(self) -> tuple[int, int]:
        """How far a form reaches before the host's name, and from there to its end and what must not follow."""
        heads = [text.find(n) for text in self._codes for n in self.names if n in text]
        return max(heads), max(map(len, self._codes)) + 8

    def from_tokens(self, text: str) -> str:
        """The text with every token written as this site's URL, or as what things are called here."""
        if OPEN not in text:
            return text
        text = _TOKEN.sub(lambda m: self.written(m.group(1), int(m.group(2)), m.group(3), int(m.group(4) or 0)), text)
        return names.written(text, self.staging)

    def written(self, form: str, slash: int, case: str, number: int = 0) -> str:
        """An address, by its number, or the folder, in one form."""
        return self.folder.written(slash, case) if form == "f" else self.bases[number].written(form, slash, case)
