"""Names of items, the shell wildcards that match them, and text that is safe to show."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from difflib import get_close_matches
from fnmatch import fnmatchcase
from urllib.parse import unquote


def matching(names: Iterable[str], patterns: Sequence[str]) -> set[str]:
    """The names that one of the patterns matches; a name matches itself, whatever signs are in it, and as it is written
    in addresses."""
    every = [*patterns, *(s for p in patterns if (s := spoken(p)) != p)]
    return {n for n in names if any(n == p or fnmatchcase(n, p) for p in every)}


def spoken(name: str) -> str:
    """A name as a person reads it: without percent codes, where they stand for letters."""
    if "%" not in name:
        return name
    try:
        text = unquote(name, errors="strict")
    except UnicodeDecodeError:
        return name
    return text if text.isprintable() else name


def clean(text: str) -> str:
    """Text from elsewhere, safe for a terminal: control characters, escapes among them, made visible."""
    return "".join(c if c == "\n" or c.isprintable() else f"\\x{ord(c):02x}" for c in text)


def nearest(names: Iterable[str], pattern: str) -> str:
    """Advice for a pattern that matches nothing."""
    near = get_close_matches(pattern, list(names), n=3, cutoff=0.4)
    return f"Nearest names: {', '.join(near)}." if near else "`nostos compare` lists the names."


def matches(path: str, patterns: Iterable[str]) -> bool:
    """Whether a path or a folder that holds it matches one of these shell wildcards; `dir/**` is all below `dir`."""
    parts = path.split("/")
    for pattern in patterns:
        bare = pattern.removesuffix("/**").removesuffix("/")
        for n in range(len(parts), 0, -1):
            head = "/".join(parts[:n])
            if (n < len(parts) or not pattern.endswith("/**")) and fnmatchcase(head, bare):
                return True
    return False


def parted(patterns: Iterable[str]) -> tuple[list[str], list[str]]:
    """Shell wildcards by what they mean: of a path itself, and, for a folder, of all below it."""
    plain: list[str] = []
    below: list[str] = []
    for pattern in patterns:
        (below if pattern.endswith("/**") else plain).append(pattern.removesuffix("/**").removesuffix("/"))
    return plain, below
