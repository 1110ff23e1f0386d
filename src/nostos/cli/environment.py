"""Everything around the program that a test may want to replace."""

from __future__ import annotations

import os
import sys
from enum import IntEnum
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from typing import TextIO

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


class Environment:
    """Streams and settings. width: columns of the terminal, or None to find out."""

    def __init__(self, stdin: TextIO | None = None, stdout: TextIO | None = None, stderr: TextIO | None = None, *,
                 home: Path | None = None, width: int | None = None, colour: bool | None = None) -> None:
        # No dataclass: making one takes longer than all else that `--help` does.
        self.stdin, self.stdout, self.stderr = stdin or sys.stdin, stdout or sys.stdout, stderr or sys.stderr
        self.home, self.width, self.colour = home, width, colour
        self.json = self.debug = False
        self.carrying_out: tuple[str, float] | None = None  # an operation on a voyage, and since when

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
