"""What a change in one room needs, in under a minute: style, types, the order of rooms, and the room's own tests.

`python -m tests.quick [ROOM...]`: these rooms, as the folders below `tests/` are called; with none, those in which
files differ from the last commit, or else from the one before. Servers and real systems are left to `make test`.
"""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterable
from pathlib import Path

from tests.__main__ import SLOW, every, modules

ROOT = Path(__file__).parents[1]
ALWAYS = ("tests.test_rooms", "tests.values.test_values", "tests.apply.test_merge")
LONG = ("tests.apply.test_between", "tests.clone.test_masking", "tests.around.test_pictures")  # left to `make test`


def changed() -> set[str]:
    """The rooms in which something differs from the last commit; with a clean tree, from the one before it."""
    def differing(*revisions: str) -> list[str]:
        done = subprocess.run(["git", "diff", "--name-only", *revisions], cwd=ROOT, capture_output=True, text=True,
                              check=False)
        new = subprocess.run(["git", "ls-files", "--others", "--exclude-standard"], cwd=ROOT, capture_output=True,
                             text=True, check=False)
        return [*done.stdout.split(), *new.stdout.split()]

    return {room for path in differing("HEAD") or differing("HEAD~1", "HEAD") if (room := room_of(path))}


def room_of(path: str) -> str:
    """The folder of `tests/` that a file of the tree belongs to; empty for none."""
    parts = Path(path).parts
    if parts[:3] == ("src", "nostos", "core") and len(parts) > 4:
        return parts[3]
    if parts[:2] == ("src", "nostos") and len(parts) > 3:
        return {"show": "cli"}.get(parts[2], parts[2])
    return parts[1] if parts[:1] == ("tests",) and len(parts) > 2 else ""


def of_rooms(rooms: Iterable[str]) -> list[str]:
    """The test modules of these rooms, without those that take long or need a server."""
    wanted = {f"tests.{room}." for room in rooms if room != "real"}
    near = {m for m in modules() if any(m.startswith(w) for w in wanted)}
    return sorted({*ALWAYS, *near} - {*SLOW, *LONG})


def main(rooms: list[str]) -> int:
    unknown = [room for room in rooms if not (ROOT / "tests" / room).is_dir()]
    if unknown:
        print(f"There is no room {unknown[0]} below tests/.")
        return 2
    checks = [subprocess.Popen([sys.executable, "-m", *words], cwd=ROOT)
              for words in (["ruff", "check", "-q"], ["mypy"])]
    os.environ.setdefault("NOSTOS_EXAMPLES", "10")
    results = every(of_rooms(rooms or changed()))
    failed = sum(len(r.failures) for r in results)
    print(f"{sum(r.run for r in results)} tests, {failed} failed")
    wrong = [check for check in checks if check.wait()]
    return 1 if wrong or failed else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
