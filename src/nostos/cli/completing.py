"""Completing commands in a shell: verbs and options, voyages, and the names of items as they were last compared."""

from __future__ import annotations

import argparse
import os
from collections.abc import Callable, Collection, Iterator, Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any

from nostos.core.patterns import clean

_KEPT = "names"  # a file in a voyage's folder: a name a line, and after a tab what people call it


def keep_names(home: Path, voyage: str, titles: Mapping[str, str]) -> None:
    """Remember the names of items, each with its title, for completing; comparing anew at each key press would take too
    long."""
    from nostos.core.private_files import write_private

    lines = (f"{name}\t{' '.join(clean(title).split())}" for name, title in sorted(titles.items()))
    with suppress(OSError):
        write_private(home / "voyages" / voyage / _KEPT, "\n".join(lines).encode("utf-8", "replace"))


def complete(parser: Callable[[str | None], argparse.ArgumentParser], verbs: Collection[str]) -> None:
    """Answer a shell's question, if it is asking one; this ends the process then."""
    import argcomplete

    words = os.environ.get("COMP_LINE", "").split()
    verb = next((w for w in words if w in verbs), None)
    top = parser(verb)
    for action in _actions(top, verb):
        if action.dest == "voyage":
            action.completer = _voyages  # type: ignore[attr-defined]
        elif action.dest in ("items", "take", "leave", "prefer"):
            action.completer = _items  # type: ignore[attr-defined]
    argcomplete.autocomplete(top, always_complete_options="long")


def _actions(top: argparse.ArgumentParser, verb: str | None) -> Iterator[argparse.Action]:
    for action in top._actions:
        if isinstance(action, argparse._SubParsersAction) and verb in action.choices:
            yield from action.choices[verb]._actions


def _home(parsed: argparse.Namespace) -> Path:
    from nostos.core.voyages.home import Home

    home = getattr(parsed, "home", None) or os.environ.get("NOSTOS_HOME")
    return Home(Path(home).expanduser() if home else None).path


def _voyages(parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    from nostos.core.voyages.home import Home

    return Home(_home(parsed_args)).names()


def _items(prefix: str, parsed_args: argparse.Namespace, action: argparse.Action, **_: Any) -> dict[str, str]:
    """Items of the voyage that was named, or of all, with their titles, which some shells show; first their kinds, as
    patterns."""
    folder = _home(parsed_args) / "voyages"
    chosen = getattr(parsed_args, "voyage", None)
    candidates: dict[str, str] = {}
    for path in sorted(folder.glob(f"*/{_KEPT}")):
        if chosen is None or not (folder / chosen).is_dir() or path.parent.name == chosen:
            with suppress(OSError):
                for line in path.read_text(encoding="utf-8").split("\n"):
                    name, tab, title = line.partition("\t")
                    candidates[name] = title if tab else ""
    sides = ["live", "staging"] if action.dest == "prefer" else []
    patterns = {f"{name.partition('/')[0]}/*" for name in candidates} if action.dest in ("take", "leave") else set()
    return {n: candidates.get(n, "") for n in (*sides, *sorted(patterns | candidates.keys())) if n.startswith(prefix)}
