"""Starting the helper on another machine: the system's own ssh, with the user's own configuration."""

from __future__ import annotations

import os
import re
import shlex
import signal
import subprocess
import threading
from contextlib import suppress
from pathlib import Path
from typing import IO

from nostos.core.errors import HostError
from nostos.core.hosts import helper

_BANNER = 1 << 16  # bytes that a login may say before the helper does
_NO_PYTHON, _TOO_OLD = 97, 98
# Nothing in it that any login shell reads in another way: the program is read from the connection.
_LOADER = "import sys;sys.version_info>=(3,6)or sys.exit(98);i=sys.stdin.buffer;exec(i.read(int(i.readline())))"
_NAMES = ("python3", *(f"python3.{n}" for n in range(14, 5, -1)))
_START = (f"sh -c 'for p in {' '.join(_NAMES)}; do if command -v $p >/dev/null 2>&1; then exec $p -c \"{_LOADER}\"; "
          f"fi; done; exit {_NO_PYTHON}'")
_SAID = (  # what ssh says, what is wrong, what to do next
    ("IDENTIFICATION HAS CHANGED", "the host's key is not the one that is known of it",
     "Find out why. Only when you know that it is the right machine, remove the old key with `ssh-keygen -R`."),
    ("host key verification failed", "the host's key is not known, or was not accepted",
     "Connect once with ssh by hand, look at the key, and accept it."),
    ("could not resolve", "there is no host of that name", "Check the name."),
    ("permission denied", "it does not let this user in", "Check the user's name and key: `ssh {host}` must work."),
    ("connection refused", "nothing answers for ssh there", "Check the name and the port, in ssh's configuration."),
    ("timed out", "it does not answer", "Check the name, and that this machine may reach it."),
    ("no route to host", "it cannot be reached from here", "Check the network."),
    ("administratively prohibited", "it lets nobody run anything", "Ask the host for a login with a shell."),
    ("connection closed by", "it ended the connection", "Try `ssh {host}` by hand, and see what it says."))


ANSWERS = 30.0  # seconds that a host has to answer
ASKED = 180.0  # the same, where somebody sits at a terminal, and may be asked for a password


def ssh_command(host: str) -> list[str]:
    """How the helper is started on a host."""
    asked = shlex.split(os.environ.get("NOSTOS_SSH", "")) or ["ssh"]
    return [*asked, "-T", "-e", "none", host, _START] if Path(asked[0]).name == "ssh" else [*asked, host, _START]


class Started:
    """A helper that has answered. read, write: the streams to it."""

    def __init__(self, host: str) -> None:
        self.host = host
        self._said = bytearray()
        command = ssh_command(host)
        try:
            # Whoever presses Ctrl-C stops Nostos, which then needs the connection to take things back.
            self.process = subprocess.Popen(  # noqa: S603 - what the user names
                command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
                preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_IGN))
        except OSError as error:
            raise HostError(f"{command[0]} cannot be started: {error.strerror}.",
                            next_step="Install OpenSSH's client, or name another with NOSTOS_SSH.") from error
        assert self.process.stdin and self.process.stdout and self.process.stderr
        self.read: IO[bytes] = self.process.stdout
        self.write: IO[bytes] = self.process.stdin
        self._words = threading.Thread(target=self._listen, args=(self.process.stderr,), daemon=True)
        self._words.start()
        self._silent = False
        limit = threading.Timer(ANSWERS if not os.isatty(2) else ASKED, self._give_up)
        limit.daemon = True
        limit.start()
        try:
            self._greet()
        except BaseException:
            self.stop()
            raise
        finally:
            limit.cancel()

    def _give_up(self) -> None:
        self._silent = True
        self.process.kill()

    def _listen(self, stream: IO[bytes]) -> None:
        """Keep what ssh says; show it to who sits at a terminal, for it may ask them for something."""
        while piece := os.read(stream.fileno(), 4096):
            self._said = (self._said + piece)[-8192:]
            if os.isatty(2) and not any(words.encode() in piece for words, _, _ in _SAID):
                os.write(2, piece)

    def _greet(self) -> None:
        program = Path(helper.__file__).read_bytes()
        heard = b""
        try:
            self.write.write(b"%d\n" % len(program) + program)
            self.write.flush()
            while len(heard) < _BANNER and not heard.endswith(helper.GREETING):
                line = self.read.readline(_BANNER)
                if not line:
                    break
                heard += line
        except BrokenPipeError:
            heard += self.read.read(_BANNER)
        if not heard.endswith(helper.GREETING):
            raise self._refused(heard)

    def _refused(self, heard: bytes) -> HostError:
        """Why the helper does not answer."""
        self.stop()
        self._words.join(2)
        if self._silent:
            return HostError(f"{self.host} lets this user in, or does not refuse, and then says nothing.",
                             next_step=f"Try `ssh {self.host} python3 -V` by hand: it must answer by itself.")
        status = self.process.returncode
        text = _readable(bytes(self._said))
        if status == _NO_PYTHON:
            return HostError(f"There is no Python 3 on {self.host}.",
                             next_step="Ask the host for Python 3.6 or later; nothing else is needed there.")
        if status == _TOO_OLD:
            return HostError(f"Python on {self.host} is too old.", next_step="Ask the host for Python 3.6 or later.")
        for words, wrong, remedy in _SAID:
            if words.lower() in text.lower():
                return HostError(f"{self.host} cannot be used: {wrong}.", next_step=remedy.format(host=self.host))
        lines = (text or _readable(heard)).strip().splitlines()
        return HostError(f"{self.host} does not start the helper: {lines[-1][:200] if lines else f'status {status}'}.",
                         next_step="It needs a login that may run commands, with Python 3.6 or later: try "
                                   f"`ssh {self.host} python3 -V`.")

    def stop(self) -> None:
        """End the connection; the helper ends with it."""
        for stream in (self.write, self.read):
            with suppress(OSError):
                stream.close()
        try:
            self.process.wait(2)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()


def _readable(text: bytes) -> str:
    return re.sub(r"[^\x20-\x7e\n]", "", text.decode("utf-8", "replace"))
