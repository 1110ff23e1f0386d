"""Running a program on a site's machine: always a list of arguments, never a shell."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence

from nostos.core.errors import HostError
from nostos.core.hosts.connection import reach
from nostos.core.hosts.far_path import AnyPath, FarPath
from nostos.core.hosts.helper import run_program
from nostos.core.records import dataclass

KEPT = 1 << 16  # bytes, at most, of what a program says


@dataclass(frozen=True)
class Ran:
    """How a program ended. status: its exit status; None: it could not be run, or not to its end. why: in that case.
    output: what it printed, and its errors, at most the last 64 KB of each."""

    status: int | None
    why: str
    output: bytes
    errors: bytes


def run(folder: AnyPath, arguments: Sequence[str], seconds: float, text_in: bytes = b"",
        environment: Mapping[str, str] | None = None, as_owner: bool = False) -> Ran:
    """Run a program in a folder, on its machine. text_in: what it reads. as_owner: as whoever the folder belongs to, if
    this is root. The environment is empty but for PATH and what is given."""
    words = (list(arguments), text_in, float(seconds), [list(pair) for pair in (environment or {}).items()], as_owner)
    if isinstance(folder, FarPath):
        result = reach(folder.host).ask("run", str(folder.path), *words)
        match result:
            case [int() | None as status, str(why), bytes(said), bytes(errors)]:
                return Ran(status, why, said[-KEPT:], errors[-KEPT:])
        raise HostError(f"{folder.host} gave an answer that cannot be understood.", next_step="Try again.")
    return Ran(*run_program(str(folder), *words))


def can_run(folder: AnyPath, program: str) -> bool:
    """Whether there is such a program on a folder's machine."""
    return run(folder, ["sh", "-c", 'command -v "$0" >/dev/null', program], 10).status == 0


LENT = "NOSTOS_LENDS"  # names of variables of this machine that files of another may ask for, with commas between


def variable(path: AnyPath, name: str) -> str | None:
    """What a file means by a variable of the environment: that of the file's own machine. One of this machine reaches a
    file of another only if it is lent by name: whoever writes that file sees where it goes. None: it is not set."""
    if not isinstance(path, FarPath):
        return os.environ.get(name)
    if name in os.environ.get(LENT, "").replace(" ", "").split(","):
        return os.environ.get(name)
    value = reach(path.host).ask("variable", name)
    return value if isinstance(value, str) else None
