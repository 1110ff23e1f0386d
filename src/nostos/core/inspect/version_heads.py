"""Where a site's core, extensions and themes write their versions, and what they say."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from nostos.core.profiles.model import Folder, Profile

HEAD = 8192  # bytes of a file that are looked at, as the systems themselves do


@dataclass(frozen=True)
class Part:
    """A core, an extension or a theme: its kind and name, and the version that it says it has; empty: none."""

    kind: str
    name: str
    version: str


def version_in(folder: Folder, root: Path) -> str:
    """The version that the item in this folder says it has; empty when it says none."""
    if folder.version is None:
        return ""
    for path in sorted(root.glob(folder.version.files)):
        try:
            if path.is_symlink() or not path.is_file():
                continue
            with path.open("rb") as file:
                head = file.read(HEAD).decode("utf-8", "replace")
        except OSError:
            continue
        found = re.search(folder.version.pattern, head, re.MULTILINE)
        if found:
            return found.group(1).strip()[:40]
    return ""


def parts(profile: Profile, files: Path) -> Iterator[Part]:
    """Every core, extension and theme in a tree, by its folders."""
    seen = set()
    for folder in profile.folders:
        parent = files / folder.parent if folder.parent else files
        if not parent.is_dir():
            continue
        names = [folder.only] if folder.only else sorted(p.name for p in parent.iterdir() if p.is_dir())
        for name in names:
            root = parent / name
            if not root.is_dir() or (folder.manifest and not (root / folder.manifest).is_file()):
                continue
            version = version_in(folder, root)
            if folder.only and not version:
                continue  # a core may have several folders; one of them says which it is
            part = Part(folder.kind, name, version)
            if part not in seen:
                seen.add(part)
                yield part
