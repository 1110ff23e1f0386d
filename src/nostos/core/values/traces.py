"""What is left of a site's address or folder where it should be another's, in whatever way it is spelled."""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import cached_property
from typing import Any

from nostos.core.values import structures
from nostos.core.values.urls import UrlForms

_SLASH = r"(?:/|\\+/|%(?:25)*2f|\\+u002f|&#x0*2f;|&#0*47;)"
_COLON = r"(?::|%(?:25)*3a|\\+u003a|&#x0*3a;|&#0*58;)"


class Traces:
    """Finds what is left of one site in texts that should speak of another. A mail address at its host is none."""

    def __init__(self, of: UrlForms, live_forms: UrlForms) -> None:
        parts: list[str] = []
        self._needles: set[str] = set()
        for number in range(len(of.bases)):
            self._address(parts, of, live_forms, number)
        if of.folder.path.count("/") > 1 and of.folder.path != live_forms.folder.path:
            below = live_forms.folder.path.removeprefix(of.folder.path)
            below = below if below.startswith("/") and below != live_forms.folder.path else ""
            self._add(parts, self._path(of.folder.path) + (f"(?!{self._path(below)})" if below else ""),
                      of.folder.path.rpartition("/")[2])
        self._parts = parts
        self._hidden = of.hidden if [b.rest for b in of.bases] != [b.rest for b in live_forms.bases] else ()

    def _address(self, parts: list[str], of: UrlForms, live_forms: UrlForms, number: int) -> None:
        """What is left of one of a site's addresses, by its number."""
        mine, theirs = of.pieces(number), live_forms.pieces(number)
        staging_url, others = of.bases[number].rest.partition("/")[0], live_forms.bases[number].rest.partition("/")[0]
        if mine["host"] != theirs["host"]:
            self._add(parts, re.escape(mine["host"]), mine["host"])
        elif mine["port"] != theirs["port"]:
            ports = [place.rpartition(":")[2] for place in (staging_url, others) if ":" in place]
            port = _COLON + mine["port"] if staging_url != mine["host"] else f"(?!{_COLON}{ports[-1]})"
            self._add(parts, re.escape(mine["host"]) + port, mine["host"])
        elif mine["path"] and not theirs["path"].startswith(mine["path"]):
            self._add(parts, re.escape(mine["host"]) + rf"(?:{_COLON}\d+)?" + self._path(mine["path"]), mine["host"])
        elif theirs["path"].startswith(mine["path"]) and theirs["path"] != mine["path"]:  # there lies below
            path = re.escape(mine["host"]) + rf"(?:{_COLON}\d+)?" + self._path(mine["path"])
            self._add(parts, f"{path}(?!{self._path(theirs['path'][len(mine['path']):])})", mine["host"])

    def _add(self, parts: list[str], pattern: str, needle: str) -> None:
        parts.append(pattern)
        self._needles.add(needle.lower())

    @staticmethod
    def _path(path: str) -> str:
        return _SLASH.join(re.escape(part) for part in path.split("/"))

    @cached_property
    def _pattern(self) -> re.Pattern[str]:
        # After an encoded sign a name may begin at once. What is within a longer name, or in a mail address, is none.
        begins = r"(?:(?<=%2f)|(?<=u002f)|(?<![\w@.-])(?<!%40))"
        return re.compile(f"{begins}(?:{'|'.join(self._parts)})(?![\\w-])(?!\\.\\w)", re.IGNORECASE)

    @cached_property
    def needles(self) -> tuple[bytes, ...]:
        """In small letters, what a text without any trace does not hold."""
        return tuple(n.encode() for n in self._needles)

    @cached_property
    def hidden(self) -> tuple[bytes, ...]:
        """The same of base64, as it is written."""
        return tuple(n.encode() for n in self._hidden)

    def may_be_in(self, content: bytes) -> bool:
        """A cheap look. Where it says no, there is none."""
        if any(h in content for h in self.hidden):
            return True
        small = content.lower()
        return any(n in small for n in self.needles)

    def trace_in(self, value: Any) -> str:
        """The first trace in a value, with what is around it; empty: there is none."""
        if isinstance(value, bytes):
            value = value.decode("latin-1")
        if isinstance(value, structures.StructuredValue | Mapping | list):
            return next((f for _, leaf in structures.leaves(value) if (f := self.trace_in(leaf))), "")
        if not isinstance(value, str) or not self._parts:
            return ""
        small = value.lower()
        if any(n in small for n in self._needles):
            match = self._pattern.search(value)
            if match is not None:
                return " ".join(value[max(0, match.start() - 12):match.end() + 20].split())
        return next((h for h in self._hidden if h in value), "")
