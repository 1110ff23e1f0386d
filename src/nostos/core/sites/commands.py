"""Commands that a site file names, to be run on the site's machine around an operation: caches, indexes, queues.

They are lists of arguments, never given to a shell, and come only from a file that belongs to whoever runs Nostos and
that nobody else may write to.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from time import monotonic
from typing import Any

from nostos.core.errors import MergeRefused, SiteError
from nostos.core.hosts.connection import reach
from nostos.core.hosts.far_path import AnyPath, FarPath
from nostos.core.hosts.running import run

BEFORE, AFTER = "before", "after"
SERVE = "serve"
VERBS = ("clone", "merge", "undo", "restore", "refresh")
_SECONDS = 300
_KEPT = 2000  # characters of what a command says
Arguments = tuple[str, ...]


@dataclass(frozen=True)
class Commands:
    """What a site file names. file: it. named: commands by when and verb. seconds: how long each may take."""

    file: AnyPath
    named: Mapping[tuple[str, str], tuple[Arguments, ...]] = field(default_factory=dict)
    seconds: float = _SECONDS
    serve: Arguments = ()  # by which a copy answers on this machine

    def of(self, when: str, verb: str) -> tuple[Arguments, ...]:
        return self.named.get((when, verb), ())

    def distrusted(self) -> str:
        """Why they are not run; empty where they may be."""
        info = self.file.stat()
        user = reach(self.file.host).about.user if isinstance(self.file, FarPath) else os.geteuid()
        if info.st_uid != user:
            return f"{self.file} belongs to another user"
        return f"others may write to {self.file}" if info.st_mode & 0o022 else ""


@dataclass(frozen=True)
class RanCommand:
    """A command that was run. status: its exit status; None: it did not come to its end, and `why` says why not. said:
    the last of what it printed, and of its errors."""

    when: str
    arguments: Arguments
    status: int | None
    why: str
    seconds: float
    said: str

    @property
    def failed(self) -> bool:
        return self.status != 0


def commands_in(data: Mapping[str, Any], file: AnyPath) -> Commands | None:
    """What a site file says. Raises SiteError when it cannot be meant."""
    named: dict[tuple[str, str], tuple[Arguments, ...]] = {}
    seconds: float = _SECONDS
    for when in (BEFORE, AFTER):
        part = data.get(when, {})
        if not isinstance(part, Mapping):
            raise _wrong(file, when)
        for verb, said in part.items():
            if verb == "seconds":
                if not isinstance(said, int | float) or said <= 0:
                    raise _wrong(file, f"{when}.seconds")
                seconds = float(said)
                continue
            if verb not in VERBS or not isinstance(said, list) or not all(
                    isinstance(c, list) and c and all(isinstance(a, str) and "\0" not in a for a in c) for c in said):
                raise _wrong(file, f"{when}.{verb}")
            named[when, verb] = tuple(tuple(c) for c in said)
    serve = _serve(data, file)
    return Commands(file, named, seconds, serve) if named or serve else None


def _serve(data: Mapping[str, Any], file: AnyPath) -> Arguments:
    part = data.get(SERVE, {})
    said = part.get("command", []) if isinstance(part, Mapping) else None
    if not isinstance(said, list) or not all(isinstance(a, str) and "\0" not in a for a in said) or (
            SERVE in data and not said):
        raise SiteError(f"{file} cannot be used: [{SERVE}] names no command.", next_step=(
            'Write it like: command = ["php", "-S", "{address}", "-t", "{files}"].'))
    return tuple(said)


def _wrong(file: AnyPath, what: str) -> SiteError:
    return SiteError(f"{file} cannot be used: [{what}] is no list of commands, each a list of its arguments.",
                     next_step=f'Write it like: merge = [["php", "bin/clear-cache"]], for {", ".join(VERBS)}.')


def run_commands(commands: Commands, when: str, verb: str, folder: AnyPath, site: str) -> Iterator[RanCommand]:
    """Run them, one after the other, in a site's folder; what follows one that failed is run all the same. Raises
    MergeRefused, with nothing run, when their file cannot be trusted."""
    if not commands.of(when, verb):
        return
    why = commands.distrusted()
    if why:
        raise MergeRefused(f"The commands of {commands.file} are not run: {why}.",
                           next_step=f"Make it yours alone (chmod go-w {commands.file}), or give --no-commands.")
    for arguments in commands.of(when, verb):
        start = monotonic()
        done = run(folder, arguments, commands.seconds, environment={
            "NOSTOS_SITE": site, "NOSTOS_STEP": f"{when} {verb}", "LANG": "C.UTF-8"})
        said = b"\n".join(part for part in (done.said.strip(), done.errors.strip()) if part)
        yield RanCommand(when, arguments, done.status, done.why, round(monotonic() - start, 3),
                         said.decode("utf-8", "replace")[-_KEPT:])
