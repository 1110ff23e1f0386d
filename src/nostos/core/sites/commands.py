"""Commands that a site file names, to be run on the site's machine around an operation: caches, indexes, queues.

They are lists of arguments, never given to a shell, and come only from a file that belongs to whoever runs Nostos and
that nobody else may write to.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from dataclasses import field
from time import monotonic
from typing import Any

from nostos.core.errors import MergeRefused, SiteError
from nostos.core.hosts.connection import reach
from nostos.core.hosts.far_path import AnyPath, FarPath
from nostos.core.hosts.running import run
from nostos.core.records import dataclass
from nostos.core.sites.ran import Arguments, RanCommand

BEFORE, AFTER = "before", "after"
SERVE = "serve"
VERBS = ("clone", "merge", "undo", "restore", "refresh")
_SECONDS = 300
_OTHERS, _STICKY = 0o022, 0o1000
_KEPT = 2000  # characters of what a command says


@dataclass(frozen=True)
class Commands:
    """What a site file names. file: it. named: commands by when and verb. seconds: how long each may take. distrust:
    why they are not run, as it was when their file was read; empty where they may be."""

    file: AnyPath
    named: Mapping[tuple[str, str], tuple[Arguments, ...]] = field(default_factory=dict)
    seconds: float = _SECONDS
    serve: Arguments = ()  # by which a copy answers on this machine
    distrust: str = ""

    def of(self, when: str, verb: str) -> tuple[Arguments, ...]:
        """The commands for `before` or `after` a verb."""
        return self.named.get((when, verb), ())


def distrust(file: AnyPath, read: tuple[int, int] | None = None) -> str:
    """Why what a file says is not to be run; empty where only this user and root could have written it: it is theirs,
    and so is every folder above it, for whoever may rename there puts another in its place. read: owner and mode of the
    very file that was read, where that is known."""
    user = reach(file.host).about.user if isinstance(file, FarPath) else os.geteuid()
    place = file.resolve()
    status = place.stat()
    for owner, mode in filter(None, (read, (status.st_uid, status.st_mode))):
        if owner not in (user, 0):
            return f"{file} belongs to another user"
        if mode & _OTHERS:
            return f"others may write to {file}"
    folder = place.parent
    while True:
        info = folder.stat()
        if info.st_uid not in (user, 0):
            return f"{folder} belongs to another user, who may put another file there"
        if info.st_mode & _OTHERS and not info.st_mode & _STICKY:
            return f"others may put another file into {folder}"
        if folder.parent == folder:
            return ""
        folder = folder.parent


def commands_in(data: Mapping[str, Any], file: AnyPath, read: tuple[int, int] | None = None) -> Commands | None:
    """What a site file says. read: owner and mode of the file as it was read. Raises SiteError when it cannot be meant.
    """
    named: dict[tuple[str, str], tuple[Arguments, ...]] = {}
    seconds: float = _SECONDS
    for when in (BEFORE, AFTER):
        part = data.get(when, {})
        if not isinstance(part, Mapping):
            raise _wrong(file, when)
        for verb, words in part.items():
            if verb == "seconds":
                if not isinstance(words, int | float) or words <= 0:
                    raise _wrong(file, f"{when}.seconds")
                seconds = float(words)
                continue
            if verb not in VERBS or not isinstance(words, list) or not all(
                    isinstance(c, list) and c and all(isinstance(a, str) and "\0" not in a for a in c)
                    for c in words):
                raise _wrong(file, f"{when}.{verb}")
            named[when, verb] = tuple(tuple(c) for c in words)
    serve = _serve(data, file)
    return Commands(file, named, seconds, serve, distrust(file, read)) if named or serve else None


def _serve(data: Mapping[str, Any], file: AnyPath) -> Arguments:
    part = data.get(SERVE, {})
    command = part.get("command", []) if isinstance(part, Mapping) else None
    if not isinstance(command, list) or not all(isinstance(a, str) and "\0" not in a for a in command) or (
            SERVE in data and not command):
        raise SiteError(f"{file} cannot be used: [{SERVE}] names no command.", next_step=(
            'Write it like: command = ["php", "-S", "{address}", "-t", "{files}"].'))
    return tuple(command)


def _wrong(file: AnyPath, what: str) -> SiteError:
    return SiteError(f"{file} cannot be used: [{what}] is no list of commands, each a list of its arguments.",
                     next_step=f'Write it like: merge = [["php", "bin/clear-cache"]], for {", ".join(VERBS)}.')


def run_commands(commands: Commands, when: str, verb: str, folder: AnyPath, site: str) -> Iterator[RanCommand]:
    """Run them, one after the other, in a site's folder; what follows one that failed is run all the same. Raises
    MergeRefused, with nothing run, when their file cannot be trusted."""
    if not commands.of(when, verb):
        return
    if commands.distrust:
        raise MergeRefused(f"The commands of {commands.file} are not run: {commands.distrust}.",
                           next_step="Make it and the folders above it yours alone "
                                     f"(chmod go-w {commands.file}), or give --no-commands.")
    for arguments in commands.of(when, verb):
        start = monotonic()
        done = run(folder, arguments, commands.seconds, environment={
            "NOSTOS_SITE": site, "NOSTOS_STEP": f"{when} {verb}", "LANG": "C.UTF-8"})
        output = b"\n".join(part for part in (done.output.strip(), done.errors.strip()) if part)
        yield RanCommand(when, arguments, done.status, done.why, round(monotonic() - start, 3),
                         output.decode("utf-8", "replace")[-_KEPT:])
