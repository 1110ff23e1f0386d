"""Writing JSON for programs."""

from __future__ import annotations

from typing import Any, TextIO

import msgspec


def write_json(stream: TextIO, result: Any) -> None:
    """One JSON document, indented."""
    stream.write(msgspec.json.format(msgspec.json.encode(result)).decode() + "\n")
