"""How text files of any system name their site's database: its name, user and password, or its file, however they are
written (JSON, YAML, TOML, INI, properties, XML, a program's constants, a URL)."""

from __future__ import annotations

import html
import json
import re
from bisect import bisect_right
from collections.abc import Callable, Iterator
from functools import cached_property
from urllib.parse import quote

from nostos.core.database.registry import Location
from nostos.core.expressions import expression
from nostos.core.hosts.far_path import on_machine
from nostos.core.records import dataclass

_NEAR = 8  # lines: what belongs to one connection is written together
_TELLING = 6  # letters of a password, from which on it stands for nothing else
# How a value is written: as it is, in a URL, in JSON, between single and double quotes of a program.
_WRITTEN: tuple[Callable[[str], str], ...] = (
    str, lambda s: quote(s, safe=""), lambda s: json.dumps(s)[1:-1], lambda s: json.dumps(s, ensure_ascii=False)[1:-1],
    lambda s: s.replace("\\", "\\\\").replace("'", "\\'"), html.escape)
_USER = expression(r"(?i)user|login|owner|role|account|\buid\b")
_DATABASE = expression(r"(?i)data_?-?base|\bdb|db\b|_db_|dsn|schema|catalog|jdbc|://")


@dataclass(frozen=True)
class DatabaseWords:
    """A database as files name it. name: of the database, or the whole path of its file. prefix: of its tables."""

    name: str
    user: str = ""
    password: str = ""
    prefix: str = ""
    is_file: bool = False

    @classmethod
    def of(cls, location: Location) -> DatabaseWords:
        """The words by which a site's configuration names a database: a file's path, or a name, user,
        password and prefix."""
        if location.none:
            return cls("")
        if location.file is not None:
            return cls(on_machine(location.file), is_file=True)
        url = location.url
        return cls(url.database or "", url.username or "", str(url.password or ""), location.prefix)

    def may_be_in(self, content: bytes) -> bool:
        """Whether a content may name it: a quick look."""
        return bool(self.name) and self.name.encode() in content

    def named(self, text: str) -> str:
        """The first line that names it, without its password; empty where none does."""
        spot = next(iter(self._spots(text)), None)
        if spot is None:
            return ""
        line = _line_at(text, text.rfind("\n", 0, spot[0]) + 1).strip()
        for secret in filter(None, (write(self.password) for write in _WRITTEN)):
            line = line.replace(secret, "...")
        return line[:120]

    def written_for(self, text: str, other: DatabaseWords) -> str:
        """A text that names this database, naming another in the same places."""
        theirs = {"name": other.name, "user": other.user, "password": other.password, "prefix": other.prefix}
        done, parts = 0, []
        for start, end, what, how in sorted({*self._spots(text)}):
            if start >= done:
                parts += [text[done:start], _WRITTEN[how](theirs[what])]
                done = end
        return "".join([*parts, text[done:]])

    # --- where it is named

    def _spots(self, text: str) -> Iterator[tuple[int, int, str, int]]:
        """Where its words stand: start, end, which, and how it is written."""
        if not self.name or self.name not in text:
            return
        lines = [m.start() for m in re.finditer(r"^", text, re.MULTILINE)]
        if self.is_file:
            yield from ((m.start(), m.end(), "name", 0) for m in self._name.finditer(text))
            return
        secrets = {_line(lines, m.start()) for m in self._secret.finditer(text)} if self.password else set()
        users = {_line(lines, m.start()) for m in self._user.finditer(text)} if self.user else set()
        names = [m for m in self._name.finditer(text)
                 if self._is_name(text, lines, m.start(), secrets if self.password else users)]
        near = {_line(lines, m.start()) for m in names}
        yield from ((m.start(), m.end(), "name", 0) for m in names)
        for pattern, what in ((self._secret, "password"), (self._user, "user"), (self._begins, "prefix")):
            for m in pattern.finditer(text) if getattr(self, what) and near else ():
                line = _line(lines, m.start())
                telling = what == "password" and len(self.password) >= _TELLING
                source = _line_at(text, lines[line])
                if what == "user" and self.user == self.name and not self._as_user(text, m.start(), source):
                    continue
                if telling or any(abs(line - n) <= _NEAR for n in near):
                    how = next(n for n, write in enumerate(_WRITTEN) if write(getattr(self, what)) == m.group())
                    yield m.start(), m.end(), what, how

    def _is_name(self, text: str, lines: list[int], at: int, proof: set[int]) -> bool:
        line = _line(lines, at)
        source = _line_at(text, lines[line])
        if self.name == self.user and self._as_user(text, at, source):
            return False
        if text[at - 1:at] == "/" and not re.search(r"\w+:(//)?[^\s\"'<>]*/$", text[lines[line]:at]):
            return False  # a folder of that name
        if proof:
            return any(abs(line - n) <= _NEAR for n in proof)
        return not (self.password or self.user) and bool(_DATABASE.search(source))

    @staticmethod
    def _as_user(text: str, at: int, line: str) -> bool:
        """Whether a word that is both names the user: by its key, or by where it is in a URL."""
        return text[at - 3:at] == "://" or bool(_USER.search(line) and "://" not in line)

    @staticmethod
    def _word(*word: str) -> re.Pattern[str]:
        every = sorted(dict.fromkeys(word), key=len, reverse=True)
        return re.compile(r"(?<![\w$.-])(?:" + "|".join(map(re.escape, every)) + r")(?![\w-]|\.\w)")

    @cached_property
    def _name(self) -> re.Pattern[str]:
        # A whole value: what follows ends it.
        return re.compile(self._word(self.name).pattern + r"""(?=[ \t]*(?:$|[\r\n#;,}\])<"'?&\\]))""")

    @cached_property
    def _user(self) -> re.Pattern[str]:
        return self._word(self.user)

    @cached_property
    def _begins(self) -> re.Pattern[str]:
        return re.compile(rf"""(?<=["'\s=:>]){re.escape(self.prefix)}(?=["'\s<,;]|$)""", re.MULTILINE)

    @cached_property
    def _secret(self) -> re.Pattern[str]:
        return self._word(*(write(self.password) for write in _WRITTEN))


def _line(lines: list[int], at: int) -> int:
    """The number of the line that a place is in. lines: where each begins."""
    return bisect_right(lines, at) - 1


def _line_at(text: str, start: int) -> str:
    """The line that begins there."""
    end = text.find("\n", start)
    return text[start:] if end < 0 else text[start:end]
