"""Run every test, some modules side by side in processes of their own; the last line counts them all.

`python -m tests [MODULE...]`: these modules, or all. One server of each kind is started for all of them.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import msgspec

ROOT = Path(__file__).parent
# What takes longest begins first, so that the last ones to end are short.
SLOW = ("tests.real.test_laws_mariadb", "tests.real.test_system", "tests.real.test_faults", "tests.apply.test_laws",
        "tests.real.test_mariadb", "tests.apply.test_live_goes_on", "tests.takeback.test_faults",
        "tests.real.test_backup", "tests.real.test_python_project", "tests.real.test_python_system",
        "tests.real.test_corners", "tests.real.test_network")


@dataclass
class Result:
    """What one module's tests came to. failures, skipped: their texts."""

    module: str
    run: int = 0
    failures: tuple[str, ...] = ()
    skipped: tuple[str, ...] = ()
    seconds: float = 0.0


def modules() -> Iterator[str]:
    for path in sorted(ROOT.rglob("test_*.py")):
        yield ".".join(path.relative_to(ROOT.parent).with_suffix("").parts)


def one(module: str) -> Result:
    """Run a module's tests in this process."""
    begun = time.monotonic()
    suite = unittest.defaultTestLoader.loadTestsFromName(module)
    found = unittest.TextTestRunner(stream=sys.stderr, verbosity=1, buffer=True).run(suite)
    failures = [f"{test}\n{text}" for test, text in (*found.failures, *found.errors)]
    failures += [f"{test}\nunexpected success" for test in found.unexpectedSuccesses]
    return Result(module, found.testsRun, tuple(failures), tuple(f"{t}: {why}" for t, why in found.skipped),
                  time.monotonic() - begun)


def apart(module: str, folder: Path) -> Result:
    """Run a module's tests in a process of their own."""
    begun = time.monotonic()
    to = folder / f"{module}.json"
    done = subprocess.run([sys.executable, "-m", "tests", "--one", module, str(to)], capture_output=True, text=True,
                          errors="replace", check=False)
    if not to.is_file():
        return Result(module, 1, (f"{module} ended with {done.returncode}\n{done.stdout}{done.stderr}",), (),
                      time.monotonic() - begun)
    return msgspec.json.decode(to.read_bytes(), type=Result)


def every(names: Iterable[str]) -> list[Result]:
    order = {name: place for place, name in enumerate(SLOW)}
    due = sorted(names, key=lambda n: order.get(n, len(SLOW)))
    with tempfile.TemporaryDirectory(prefix="nostos-tests-") as made, ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        results = []
        for result in pool.map(lambda name: apart(name, Path(made)), due):
            print(f"{result.module}: {result.run} in {result.seconds:.0f} s"
                  + "".join(f"\n{text}" for text in result.failures), flush=True)
            results.append(result)
        return results


def main(arguments: list[str]) -> int:
    if arguments[:1] == ["--one"]:
        Path(arguments[2]).write_bytes(msgspec.json.encode(one(arguments[1])))
        return 0
    from tests.real.servers import SHARED, mariadb, missing

    server = None if missing() else mariadb()
    if server:
        os.environ[SHARED] = f"{server.socket}:{server.port}"
    results = every(arguments or modules())
    if server and server.ended():
        print(server.ended())
    for result in results:
        for text in result.skipped:
            print(f"skipped: {text}")
    failed, skipped = (sum(len(some) for some in lists) for lists in (
        [r.failures for r in results], [r.skipped for r in results]))
    passed = sum(r.run for r in results) - failed - skipped
    print(f"{passed} passed, {failed} failed, {skipped} skipped")
    return 1 if failed or passed <= 0 else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
