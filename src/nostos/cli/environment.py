"""Everything around the program that a test may want to replace."""

from __future__ import annotations

import os
import sys
from dataclasses import field
from enum import IntEnum
from pathlib import Path
from typing import TYPE_CHECKING, TextIO

from nostos.core.records import dataclass

if TYPE_CHECKING:
    from rich.console import Console


PASSWORD = "NOSTOS_STAGING_PASSWORD"  # noqa: S105 - the name of a variable


def staging_password() -> str:
    """The password of staging's pages: from the environment, else asked for without being shown."""
    from getpass import getpass

    return os.environ.get(PASSWORD) or getpass("Staging's password: ")


class ExitStatus(IntEnum):
    """What the program says to the shell (design, section 3)."""

    DONE = 0
    LOOK = 1
    USAGE = 2
    REFUSED = 3
    INTERRUPTED = 4


@dataclass
class Environment:
    """Streams and settings. width: columns of the terminal, or None to find out."""

    stdin: TextIO = field(default_factory=lambda: sys.stdin)
    stdout: TextIO = field(default_factory=lambda: sys.stdout)
    stderr: TextIO = field(default_factory=lambda: sys.stderr)
    home: Path | None = None
    json: bool = False
    debug: bool = False
    width: int | None = None
    colour: bool | None = None

    def _console(self, stream: TextIO) -> Console:
        from rich.console import Console

        # Results that go into a file or a pipe keep one line a row, whatever the terminal's width is.
        width = self.width or (None if stream.isatty() else int(os.environ.get("COLUMNS", "0")) or 140)
        return Console(file=stream, width=width, force_terminal=self.colour, highlight=False, emoji=False,
                       markup=False, soft_wrap=False)

    @property
    def out(self) -> Console:
        return self._console(self.stdout)

    @property
    def err(self) -> Console:
        return self._console(self.stderr)

    def ask(self, question: str) -> str:
        """A line from the user; empty when there is nobody to ask."""
        self.stderr.write(question)
        self.stderr.flush()
        answer = self.stdin.readline()
        if not answer.endswith("\n"):
            self.stderr.write("\n")
        return answer.strip()
