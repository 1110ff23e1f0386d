"""Names of items and the shell wildcards that match them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from difflib import get_close_matches
from fnmatch import fnmatchcase


def matching(names: Iterable[str], patterns: Sequence[str]) -> set[str]:
    """The names that one of the patterns matches; a name matches itself, whatever signs are in it."""
    return {n for n in names if any(n == p or fnmatchcase(n, p) for p in patterns)}


def nearest(names: Iterable[str], pattern: str) -> str:
    """Advice for a pattern that matches nothing."""
    near = get_close_matches(pattern, list(names), n=3, cutoff=0.4)
    return f"Nearest names: {', '.join(near)}." if near else "`nostos compare` lists the names."
