"""How long short commands take, on the story's site, beside a Python that does nothing: `python -m bench.starting`."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from nostos.demo.story import Story

_RUNS = 7
_BARS = (("--help", 4), ("history", 8), ("status", 8), ("compare autumn", 15), ("select autumn", 15),
         ("merge autumn --dry-run", 15))


def least(arguments: list[str], compiled: str) -> float:
    """Seconds that a Python with these arguments takes, the quickest of some runs. compiled: a folder for what Python
    keeps of modules, as it does for an installed program."""
    environment = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
    times = []
    for _ in range(_RUNS):
        begun = time.perf_counter()
        subprocess.run([sys.executable, *arguments], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False,
                       env={**environment, "PYTHONPYCACHEPREFIX": compiled})
        times.append(time.perf_counter() - begun)
    return min(times)


def main() -> None:
    with tempfile.TemporaryDirectory() as made:
        folder, program = Path(made), ["-m", "nostos", "--home", f"{made}/home"]
        story = Story(folder)
        story.begin()
        subprocess.run([sys.executable, *program, "clone", f"{folder}/live", "autumn", "--into", f"{folder}/staging",
                        "--url", story.staging_url], stdout=subprocess.DEVNULL, check=True)
        story.work_on_staging()
        story.life_on_live()
        nothing = least(["-c", "pass"], f"{made}/compiled")
        print(f"a Python that does nothing: {nothing * 1000:.0f} ms")
        for command, bar in _BARS:
            took = least([*program, *command.split()], f"{made}/compiled")
            print(f"{command:24} {took * 1000:5.0f} ms  {took / nothing:5.1f} (bar {bar})")


if __name__ == "__main__":
    main()
