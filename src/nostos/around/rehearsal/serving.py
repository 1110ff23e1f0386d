"""Letting a copy answer: a command of its system's, or of its site file, on a free loopback port of its machine."""

from __future__ import annotations

import shutil
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from nostos.core.errors import MergeRefused, SiteError
from nostos.core.hosts.connection import reach
from nostos.core.hosts.far_path import AnyPath, FarPath
from nostos.core.hosts.helper import NotServed, serving
from nostos.core.sites.recognise import Site

_ENVIRONMENTS = (".venv", "venv", "env")  # where a project keeps its own Python


def command_of(live: Site) -> tuple[str, ...]:
    """The command by which a copy of live is served: its site file's, else its system's; empty where none is known.
    Raises MergeRefused where the site file names one and cannot be trusted."""
    if live.commands is not None and live.commands.serve:
        if live.commands.distrust:
            raise MergeRefused(f"The command of {live.commands.file} is not run: {live.commands.distrust}.",
                               left="Nothing was done.",
                               next_step=f"Make it yours alone (chmod go-w {live.commands.file}), or give "
                                         "--no-commands: then the copy is not visited.")
        return live.commands.serve
    return live.profile.serve


@contextmanager
def served(site: Site, command: Sequence[str], live: Site) -> Iterator[str]:
    """Let a copy of live answer while the block lasts, on its own machine. Gives a host and port of this machine's that
    lead there. In the command's arguments stand `{address}`, `{host}`, `{port}`, `{files}`, `{home}`, `{python}` (the
    one that runs this; elsewhere, the machine's own) and `{python3}` (the project's own, if it has one: the copy's, or
    else live's, for an environment that names a program outside of its tree does not come along). Raises SiteError
    where it does not start."""
    folder: AnyPath = site.files.at if site.has_files else site.home
    far = isinstance(folder, FarPath)
    python = next((_plain(p) for at in (folder, live.home) for e in _ENVIRONMENTS
                if (p := at / e / "bin" / "python").exists()), None)
    python3 = "python3" if far else shutil.which("python3") or "python3"
    words = {"{files}": _plain(folder), "{pages}": _plain(folder),
             "{home}": _plain(site.home), "{python}": "python3" if far else sys.executable,
             "{python3}": python or python3}
    arguments = []
    for argument in command:
        for word, value in words.items():
            argument = argument.replace(word, value)
        arguments.append(argument)
    if not isinstance(folder, FarPath):
        try:
            with serving(str(folder), arguments) as port:
                yield f"127.0.0.1:{port}"
        except NotServed as error:
            raise _not_served(str(error), live) from error
        return
    connection = reach(folder.host)
    with connection.talk("serve", str(folder.path), arguments) as channel:
        status = channel.receive()
        if not isinstance(status, int):
            raise _not_served(str(status), live)
        with connection.port(status) as here:
            yield f"127.0.0.1:{here}"


def _plain(path: AnyPath) -> str:
    """A path as its own machine writes it."""
    return str(path.path) if isinstance(path, FarPath) else str(path)


def _not_served(why: str, live: Site) -> SiteError:
    command = live.profile.serve or ("THE-PROGRAM", "{address}")
    return SiteError(f"The copy cannot be served: {why}.", left="Live was only read; the copy was removed.",
                     next_step="Name a command that serves it, in a site file: [serve] command = ["
                               + ", ".join(f'"{word}"' for word in command) + "].")
