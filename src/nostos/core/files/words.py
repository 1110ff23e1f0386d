"""Text files that speak of their site: web servers' rules, style sheets, settings. A copy has them in its own words.

They are compared, and go home, in live's words, so that a copy's address, its folder or the path that it is under never
reaches live in one of them.
"""

from __future__ import annotations

from collections.abc import Callable

from nostos.core.records import dataclass

RULES = (".htaccess", ".ini", ".config", ".conf")  # of a web server
KNOWN = (".css", ".json", ".webmanifest", *RULES)
LARGEST = 1 << 20  # bytes
Change = Callable[[str, str], str]  # (a file's path, its text) -> the text as the other site has it


def ending(path: str) -> str:
    """The ending by which a file is known as one that may speak of its site; empty for any other."""
    name = path.rpartition("/")[2].lower()
    return next((e for e in KNOWN if name.endswith(e)), "")


@dataclass(frozen=True)
class Words:
    """How a tree's own words become live's, and the other way round. also: the paths of further files that have them,
    whatever they are called."""

    to_live: Change
    to_own: Change
    also: frozenset[str] = frozenset()

    def speaks(self, path: str) -> bool:
        """Whether a file is one that has words of its own."""
        return bool(ending(path)) or path in self.also

    def live(self, path: str, content: bytes) -> bytes:
        """A file's content in live's words."""
        return self._changed(self.to_live, path, content)

    def own(self, path: str, content: bytes) -> bytes:
        """A file's content in this tree's own words."""
        return self._changed(self.to_own, path, content)

    @staticmethod
    def _changed(change: Change, path: str, content: bytes) -> bytes:
        if len(content) > LARGEST or b"\0" in content:
            return content
        try:
            text = content.decode()
        except UnicodeDecodeError:
            return content
        return change(path, text).encode()
