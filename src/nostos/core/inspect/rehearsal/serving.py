"""Letting a copy answer on this machine: a command of its system's, or of its site file, on a free loopback port."""

from __future__ import annotations

import ctypes
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from time import monotonic, sleep

from nostos.core.errors import MergeRefused, SiteError
from nostos.core.sites.recognise import Site

_SECONDS = 30.0  # until it answers
_ENDING = 5.0
_DIES_WITH_PARENT = 1  # PR_SET_PDEATHSIG
_ENVIRONMENTS = (".venv", "venv", "env")  # where a project keeps its own Python


def command_of(live: Site) -> tuple[str, ...]:
    """The command by which a copy of live is served: its site file's, else its system's; empty where none is known.
    Raises MergeRefused where the site file names one and cannot be trusted."""
    if live.commands is not None and live.commands.serve:
        why = live.commands.distrusted()
        if why:
            raise MergeRefused(f"The command of {live.commands.file} is not run: {why}.", left="Nothing was done.",
                               next_step=f"Make it yours alone (chmod go-w {live.commands.file}), or give "
                                         "--no-commands: then the copy is not visited.")
        return live.commands.serve
    return live.profile.serve


def free_port() -> int:
    """A port of this machine's that nobody listens on."""
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


@contextmanager
def served(site: Site, command: Sequence[str], started: Callable[[int], None] = lambda _: None) -> Iterator[str]:
    """Let a copy answer while the block lasts. Gives its host and port. started: is told the process. In the command's
    arguments stand `{address}`, `{host}`, `{port}`, `{files}`, `{home}`, `{python}` (the one that runs this) and
    `{python3}` (the project's own, if it has one). Raises SiteError where it does not start."""
    folder = Path(str(site.files.at if site.has_files else site.home))
    port = free_port()
    own = next((str(p) for e in _ENVIRONMENTS if (p := folder / e / "bin" / "python").exists()), None)
    words = {"{address}": f"127.0.0.1:{port}", "{host}": "127.0.0.1", "{port}": str(port), "{files}": str(folder),
             "{home}": str(site.home), "{python}": sys.executable,
             "{python3}": own or shutil.which("python3") or "python3"}
    arguments = []
    for argument in command:
        for word, value in words.items():
            argument = argument.replace(word, value)
        arguments.append(argument)
    with tempfile.TemporaryFile() as said:
        process = _start(arguments, folder, said.fileno())
        started(process.pid)
        try:
            _wait(process, port, arguments[0], said.fileno())
            yield f"127.0.0.1:{port}"
        finally:
            _end(process)


def _start(arguments: Sequence[str], folder: Path, said: int) -> subprocess.Popen[bytes]:
    owner = folder.stat()
    prctl = getattr(ctypes.CDLL(None, use_errno=True), "prctl", None)

    def first() -> None:
        os.setsid()
        if os.geteuid() == 0 and owner.st_uid:  # as whoever owns the copy, never as root where it can be helped
            os.setgroups([])
            os.setgid(owner.st_gid)
            os.setuid(owner.st_uid)
        if prctl is not None:  # if this is killed, nobody else ends it
            prctl(_DIES_WITH_PARENT, signal.SIGKILL)

    known = {name: os.environ[name] for name in ("PATH", "LANG", "LC_ALL", "TZ") if name in os.environ}
    try:
        return subprocess.Popen(list(arguments), stdin=subprocess.DEVNULL, stdout=said, stderr=said,  # noqa: S603
                                cwd=folder, env={"HOME": str(folder), **known}, preexec_fn=first)
    except (OSError, subprocess.SubprocessError, ValueError) as error:
        why = getattr(error, "strerror", None) or type(error).__name__
        raise _not_served(f"{arguments[0]} could not be run ({why})") from error


def _wait(process: subprocess.Popen[bytes], port: int, program: str, said: int) -> None:
    until = monotonic() + _SECONDS
    while monotonic() < until:
        if process.poll() is not None:
            raise _not_served(f"{program} ended with status {process.returncode}{_last(said)}")
        with suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
            return
        sleep(0.05)
    raise _not_served(f"{program} does not listen on port {port} after {_SECONDS:.0f} s{_last(said)}")


def _not_served(why: str) -> SiteError:
    return SiteError(f"The copy cannot be served: {why}.", left="Live was only read; the copy was removed.",
                     next_step='Name a command that serves it, in a site file: [serve] command = ["php", "-S", '
                               '"{address}", "-t", "{files}"].')


def _last(said: int) -> str:
    """The last line that a command printed."""
    size = os.fstat(said).st_size
    lines = os.pread(said, 4000, max(0, size - 4000)).decode("utf-8", "replace").strip().splitlines()
    return f": {lines[-1][:200]}" if lines else ""


def _end(process: subprocess.Popen[bytes]) -> None:
    for sign in (signal.SIGTERM, signal.SIGKILL):
        with suppress(OSError):
            os.killpg(process.pid, sign)
        with suppress(subprocess.TimeoutExpired):
            process.wait(_ENDING)
            if sign is signal.SIGTERM:
                with suppress(OSError):  # what it started itself
                    os.killpg(process.pid, signal.SIGKILL)
            return
