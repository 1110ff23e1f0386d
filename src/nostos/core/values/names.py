"""Names that both sides gave out to different things: what came second goes by another name on the other side.

In portable form such a name is a token that holds both: the one that live has, and the one that staging has. So a text
that mentions a picture is the same text on both sides, whatever the picture is called there.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping
from dataclasses import field, replace
from functools import cached_property
from typing import Any
from urllib.parse import quote

from nostos.core.expressions import expression
from nostos.core.records import dataclass
from nostos.core.values import structures
from nostos.core.values.structures import StructuredValue
from nostos.core.values.tokens import CLOSE, OPEN

_BETWEEN = "\ufdd2"  # between the two names; a noncharacter, as the marks are
_TOKEN = expression(f"{OPEN}n:([^{OPEN}{CLOSE}{_BETWEEN}]*){_BETWEEN}([^{OPEN}{CLOSE}{_BETWEEN}]*){CLOSE}")
_SLASH = r"(?:/|\\+/|%2[Ff]|\\u002[Ff])"
_BEGINS = r"(?:(?<!\w)|(?<=2[Ff]))"
_ENDS = r"(?![\w-])(?!\.\w)"
_URL = f"{OPEN}u:[^{OPEN}{CLOSE}]*{CLOSE}"


_NUMBER = expression(f"{OPEN}m:([0-9]+){_BETWEEN}([0-9]+){CLOSE}")


def fit(name: str) -> bool:
    """Whether a name can stand in a token."""
    return not set(name) & {OPEN, CLOSE, _BETWEEN}


def packed(live: str, staging: str) -> str:
    """The two names of one thing, as the anchor keeps them."""
    return live + _BETWEEN + staging


def unpacked(text: str) -> tuple[str, str]:
    live, _, staging = text.partition(_BETWEEN)
    return live, staging


def token(live: str, staging: str) -> str:
    """The token that stands for a name which the two sides call differently, with both."""
    return f"{OPEN}n:{live}{_BETWEEN}{staging}{CLOSE}"


def both(value: Any) -> tuple[str, str] | None:
    """The two names of a value that is a token of them, and nothing else."""
    match = _TOKEN.fullmatch(value) if isinstance(value, str) and value.startswith(OPEN) else None
    return (match.group(1), match.group(2)) if match else None


def written(text: str, staging: bool) -> str:
    """The text with every token as the name that one side has."""
    return _TOKEN.sub(lambda m: m.group(2 if staging else 1), text)


def number(value: str, staging: bool) -> int | None:
    """The number that one side has for a key that is another on the other side; None for any other text."""
    match = _NUMBER.fullmatch(value) if value.startswith(OPEN) else None
    return int(match.group(2 if staging else 1)) if match else None


def for_people(text: str) -> str:
    """The text with what live has for every token."""
    return _NUMBER.sub(lambda m: m.group(1), written(text, False)) if OPEN in text else text


def _spelled(name: str) -> list[str]:
    """A name as texts write it: as it is, percent-encoded in either case, in JSON. Always in this order."""
    coded = quote(name)
    return [name, coded, re.sub(r"%[0-9A-F]{2}", lambda m: m.group().lower(), coded), json.dumps(name)[1:-1]]


@dataclass(frozen=True)
class Names:
    """What is called otherwise on the other side. files: by paths in the tree in live's words, the paths in staging's;
    what is called `a` here and `b` there has a partner that is called `b` here and `a` there. slugs: the same of last
    parts of addresses."""

    files: Mapping[str, str] = field(default_factory=dict)
    slugs: Mapping[str, str] = field(default_factory=dict)
    numbers: Mapping[str, Mapping[int, int]] = field(default_factory=dict)  # of parts of settings, by their names

    def __bool__(self) -> bool:
        return bool(self.files or self.slugs or self.numbers)

    def with_slugs(self, pairs: Iterable[tuple[str, str]]) -> Names:
        """The same, and these: live's and staging's."""
        slugs = dict(self.slugs)
        for live, staging in pairs:
            slugs.update({live: staging, staging: live})
        return replace(self, slugs=slugs)

    @cached_property
    def _files(self) -> Mapping[bool, tuple[re.Pattern[str], dict[tuple[str, str], tuple[str, str]]]]:
        """For each side, where a file is mentioned with its folder, and its two names by what is written."""
        files: dict[bool, tuple[re.Pattern[str], dict[tuple[str, str], tuple[str, str]]]] = {}
        for staging in (False, True):
            tokens: dict[tuple[str, str], tuple[str, str]] = {}
            parts: dict[str, set[str]] = {}
            for live, other in self.files.items():
                folder = live.rpartition("/")[0].split("/")[-2:]
                names = [_spelled(p.rpartition("/")[2]) for p in (live, other)]
                for one, two in zip(*names, strict=True):
                    for spelled in {tuple(map(quote, folder)), tuple(folder)}:
                        where = _SLASH.join(map(re.escape, spelled)) if len(spelled) > 1 else re.escape(spelled[0])
                        parts.setdefault(where, set()).add(two if staging else one)
                        plain = "/".join(spelled)
                        tokens.setdefault((plain, two if staging else one), (one, two))
            pattern = "|".join(f"{_BEGINS}({where}){_SLASH}(?:{'|'.join(map(re.escape, sorted(names, key=len)[::-1]))})"
                               f"{_ENDS}" for where, names in parts.items())
            files[staging] = (re.compile(pattern), tokens)
        return files

    @cached_property
    def _slugs(self) -> re.Pattern[str]:
        names = "|".join(map(re.escape, sorted(self.slugs, key=len, reverse=True)))
        return re.compile(f"({_URL}(?:{_SLASH}[\\w%.~-]+)*?{_SLASH})({names})(?={_SLASH}?(?:[^\\w%/\\\\.~-]|$))")

    @cached_property
    def _bare(self) -> re.Pattern[str]:
        names = {s for p in self.files for s in _spelled(p.rpartition("/")[2])}
        longest = "|".join(map(re.escape, sorted(names, key=len, reverse=True)))
        return re.compile(f"(?<![\\w%.:{_BETWEEN}-])(?:{longest}){_ENDS}")

    @cached_property
    def _called(self) -> Mapping[bool, Mapping[str, str]]:
        """For each side, the token of a file's name alone."""
        both = [(one, two) for live, staging in self.files.items() for one, two in zip(
            _spelled(live.rpartition("/")[2]), _spelled(staging.rpartition("/")[2]), strict=True)]
        return {False: {one: token(one, two) for one, two in both}, True: {two: token(one, two) for one, two in both}}

    def to_tokens(self, text: str, staging: bool) -> str:
        """A text in which the site's address is a token, with what it mentions of these as tokens, too."""
        if self.files and any(p.rpartition("/")[2] in text or quote(p.rpartition("/")[2]) in text for p in self.files):
            pattern, tokens = self._files[staging]

            def one(match: re.Match[str]) -> str:
                folder = next(g for g in match.groups() if g is not None)
                rest = match.group()[len(folder):]
                slash = re.match(_SLASH, rest)
                assert slash is not None
                plain = re.sub(_SLASH, "/", folder)
                names = tokens.get((plain, rest[slash.end():]))
                return match.group() if names is None else folder + slash.group() + token(*names)

            text = pattern.sub(one, text)
        if self.slugs and OPEN in text:
            text = self._slugs.sub(lambda m: m.group(1) + self._slug(m.group(2), staging), text)
        return text

    def numbered(self, value: Any, setting: str, staging: bool) -> Any:
        """A setting in portable form whose parts have numbers: those that are others on the other side as tokens."""
        known = self.numbers.get(setting, {})
        if not isinstance(value, StructuredValue) or not isinstance(value.data, dict) or not known:
            return value
        parts = value.data.items()
        return StructuredValue({self._number(k, known, staging) if k in known else k: v for k, v in parts}, value.style)

    @staticmethod
    def _number(key: int, known: Mapping[int, int], staging: bool) -> str:
        live, number = (known[key], key) if staging else (key, known[key])
        return f"{OPEN}m:{live}{_BETWEEN}{number}{CLOSE}"

    def mentioned(self, value: Any, strip: str, staging: bool) -> Any:
        """A setting in portable form that names such parts, as `name-number`, with those as tokens, too. strip: what
        the settings' names begin with, before these."""
        def leaf(_: structures.Path, part: Any) -> Any:
            name, dash, suffix = str(part).rpartition("-")
            known = self.numbers.get(strip + name, {})
            if not dash or not suffix.isdigit() or int(suffix) not in known:
                return part
            other = str(known[int(suffix)])
            return f"{name}-" + (token(other, suffix) if staging else token(suffix, other))

        if not isinstance(value, StructuredValue):
            return value
        return StructuredValue(structures.change(value.data, leaf, lambda _, k: k), value.style)

    def _slug(self, slug: str, staging: bool) -> str:
        other = self.slugs[slug]
        return token(other, slug) if staging else token(slug, other)

    def within(self, value: Any, staging: bool) -> Any:
        """A portable value of something whose file is called otherwise, with files' names alone as tokens, too."""
        called = self._called[staging]

        def leaf(_: structures.Path, part: Any) -> Any:
            return text(part) if isinstance(part, str) else part

        def text(part: str) -> str:
            return self._bare.sub(lambda m: called.get(m.group(), m.group()), part)

        if isinstance(value, StructuredValue):
            return StructuredValue(structures.change(value.data, leaf, lambda _, k: text(k) if isinstance(k, str)
                                                     else k),
                        value.style)
        return text(value) if isinstance(value, str) else value
