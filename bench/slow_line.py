"""A slow line, in the place of ssh: what is said travels for a while, and no faster than so much a second.

The command is run on this machine; the delay and the speed are read from NOSTOS_LINE, as milliseconds one way and
megabits a second: `NOSTOS_LINE=25,20`.
"""

from __future__ import annotations

import os
import queue
import subprocess
import sys
import threading
import time
from typing import IO


def carry(source: IO[bytes], target: IO[bytes], delay: float, speed: float) -> None:
    """Give on what comes, later. speed: bytes a second."""
    waiting: queue.Queue[tuple[float, bytes]] = queue.Queue()

    def give() -> None:
        while True:
            when, piece = waiting.get()
            time.sleep(max(0.0, when - time.monotonic()))
            if not piece:
                target.close()
                return
            try:
                target.write(piece)
                target.flush()
            except (OSError, ValueError):
                return

    threading.Thread(target=give, daemon=True).start()
    free = time.monotonic()
    while True:
        piece = os.read(source.fileno(), 1 << 14)
        free = max(free, time.monotonic()) + len(piece) / speed
        waiting.put((free + delay, piece))
        if not piece:
            return
        time.sleep(max(0.0, free - time.monotonic() - 0.05))  # no more than a little lies in the line


def main() -> None:
    delay, speed = (float(n) for n in os.environ.get("NOSTOS_LINE", "25,20").split(","))
    process = subprocess.Popen(["/bin/sh", "-c", sys.argv[-1]], stdin=subprocess.PIPE, stdout=subprocess.PIPE)
    assert process.stdin is not None and process.stdout is not None
    for source, target in ((sys.stdin.buffer, process.stdin), (process.stdout, sys.stdout.buffer)):
        threading.Thread(target=carry, args=(source, target, delay / 1e3, speed * 125_000), daemon=True).start()
    process.wait()
    time.sleep(0.2)
    os._exit(0)


if __name__ == "__main__":
    main()
