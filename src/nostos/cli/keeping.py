"""Keeping house after an operation, which has ended well whatever becomes of this."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from nostos.cli.environment import Environment
    from nostos.core.voyages.home import Home


def age_out(env: Environment, home: Home) -> list[Path]:
    """Let old journals and backups go. Returns which; trouble with it is told, and is no error of the operation's."""
    from nostos.around import housekeeping
    from nostos.core.errors import NostosError

    try:
        return housekeeping.age_out(home)
    except NostosError as error:
        env.err.print(f"Old journals and backups were not looked at: {error.what} {error.next_step}", soft_wrap=True)
    except OSError as error:
        env.err.print(f"Old journals and backups could not be removed: {error.strerror or error}.", soft_wrap=True)
    return []
