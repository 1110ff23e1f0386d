"""Settings that a system also keeps in files, to bring them in again: where these say something else than the database
that they go home from, whoever brings them in undoes what went home."""

from __future__ import annotations

from contextlib import suppress
from typing import Any

from nostos.core.compare.items import TRAVELS, Comparison
from nostos.core.database.protocol import Database
from nostos.core.errors import SiteError
from nostos.core.files.tree import FileTree
from nostos.core.profiles.conditions import holds
from nostos.core.values import php
from nostos.core.values.structures import StructuredValue, read_serialised, text_in

_MOST = 1_000_000  # bytes of a file


def disagreeing(comparison: Comparison, tree: FileTree, database: Database) -> tuple[str, ...]:
    """The names of such settings that go home, they or their files, and of which the source's file does not say what
    its database does. tree, database: the source's."""
    exported = comparison.rows.profile.exported
    table = comparison.rows.source_tables.get(exported.table) if exported is not None else None
    if exported is None or not exported.folder or table is None:
        return ()
    names: set[str] = set()
    for item in comparison.items.values() if tree.status(exported.path(exported.mark)) is not None else ():
        if item.standing in TRAVELS:
            names |= {str((s.source_raw or s.base or {}).get(exported.name)) for s in item.rows
                      if s.table == exported.table}
            names |= {name for f in item.files if (name := exported.named(f.path))}
    kept = {str(row[exported.name]): row[exported.column] for row in database.find_any(
        table, exported.name, sorted(names), {}) if holds(exported.where, row)} if names else {}
    with tree.looking_ahead([tree.small(exported.path(name)) for name in names]):
        return tuple(sorted(name for name in names if not _agree(_text(tree, exported.path(name)), kept.get(name))))


def _text(tree: FileTree, path: str) -> str | None:
    with suppress(OSError, SiteError):
        return tree.read(path, _MOST).decode("utf-8", "replace")
    return None


def _agree(text: str | None, kept: Any) -> bool:
    """Whether a file says what is kept, or there is neither."""
    import yaml  # here, for few sites have such files

    if text is None or kept is None:
        return text is None and kept is None
    written = text_in(kept)
    data = read_serialised(written) if isinstance(written, str) else None
    with suppress(yaml.YAMLError, ValueError, RecursionError):
        if data is not None and not any(isinstance(e, yaml.AliasEvent) for e in yaml.parse(text)):
            return _same(yaml.load(text, Loader=yaml.BaseLoader), data.data)  # noqa: S506 - texts, lists and maps alone
    return False


def _same(said: Any, kept: Any) -> bool:
    """Whether texts, lists and maps say what was kept with types. A hash of the file itself does not count."""
    if isinstance(kept, StructuredValue):
        kept = kept.data
    if not said and not kept and isinstance(kept, dict | list):
        return True
    if isinstance(kept, dict):
        mine = {str(k): v for k, v in kept.items() if k != "_core"}
        theirs = {k: v for k, v in said.items() if k != "_core"} if isinstance(said, dict) else {}
        return mine.keys() == theirs.keys() and all(_same(theirs[k], v) for k, v in mine.items())
    if isinstance(kept, list):
        return isinstance(said, list) and len(said) == len(kept) and all(map(_same, said, kept))
    if kept is None:
        return said in ("", "null", "~")
    if isinstance(kept, bool):
        return said in (("true", "1") if kept else ("false", "0"))
    if isinstance(kept, php.Raw):  # a number with a point, or nothing that a file could say
        with suppress(ValueError, TypeError):
            return float(said) == float(kept.text.removeprefix("d:").removesuffix(";"))
        return False
    return bool(said == str(kept))
