"""The time, as records write it."""

from __future__ import annotations

from datetime import UTC, datetime


def now() -> str:
    """The moment, in UTC, to the second: ISO 8601."""
    return datetime.now(UTC).isoformat(timespec="seconds")
