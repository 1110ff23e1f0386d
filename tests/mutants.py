"""Critical lines changed one at a time, to see which changes no test notices.

`python -m tests.mutants [SECONDS] [SEED]`: a sample in random order, ten minutes by default. Each is made in a copy of
the tree and followed by the tests that are nearest to it and need no server. A change that none of them fails for is a
survivor: a test is missing, or the line is. Those that are known to be equal in what they do are not in the list.
"""

from __future__ import annotations

import ast
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parents[1]
CORE = Path("src/nostos/core")
# What writes to a site, or says what may be written, and the tests that are nearest.
NEAREST = {
    "apply/merge.py": ("apply.test_merge", "apply.test_edges", "apply.test_failures"),
    "apply/rows/write.py": ("apply.test_merge", "apply.test_edges"),
    "apply/rows/placing.py": ("plan.test_trees",),
    "apply/rows/foreign_keys.py": ("apply.test_edges", "apply.test_live_differs"),
    "apply/files/staging.py": ("apply.test_switch", "apply.test_failures", "apply.test_edges"),
    "apply/files/switch.py": ("apply.test_switch", "apply.test_failures", "apply.test_edges"),
    "apply/files/folders.py": ("files.test_wholes", "apply.test_switch", "apply.test_failures"),
    "apply/ledger.py": ("apply.test_merge", "apply.test_edges"),
    "apply/verify.py": ("apply.test_edges", "apply.test_live_differs", "apply.test_merge"),
    "apply/schema.py": ("compare.test_schema", "takeback.test_undo"),
    "apply/settle.py": ("apply.test_merge", "plan.test_refresh", "takeback.test_undo"),
    "anchor/rows.py": ("anchor.test_anchor", "apply.test_merge"),
    "anchor/undo_records.py": ("takeback.test_undo",),
    "compare/given_again.py": ("compare.test_same_thing", "apply.test_edges"),
    "compare/matching.py": ("compare.test_same_thing", "apply.test_merge"),
    "plan/needs.py": ("plan.test_needs", "plan.test_choices", "compare.test_schema"),
    "plan/obstacles.py": ("plan.test_needs", "plan.test_choices", "apply.test_live_differs"),
    "takeback/undo.py": ("takeback.test_undo",),
    "takeback/recover.py": ("apply.test_failures", "apply.test_edges"),
}


@dataclass(frozen=True)
class Mutant:
    """One change. file: below the core. start, end: where in its text. text: what stands there instead."""

    file: str
    line: int
    start: int
    end: int
    text: str
    was: str


def mutants(file: str) -> Iterator[Mutant]:
    """The changes of one file: a condition that always, or never, holds; a call whose result nobody takes left out."""
    source = (ROOT / CORE / file).read_text(encoding="utf-8")
    begins = [0]
    for text in source.splitlines(keepends=True):
        begins.append(begins[-1] + len(text.encode()))

    def change(node: ast.expr | ast.stmt, text: str) -> Mutant:
        start, end = (begins[line - 1] + column for line, column in (
            (node.lineno, node.col_offset), (node.end_lineno or 0, node.end_col_offset or 0)))
        return Mutant(file, node.lineno, start, end, text, " ".join(source.encode()[start:end].decode().split()))

    for node in ast.walk(ast.parse(source)):
        if isinstance(node, ast.If | ast.IfExp | ast.While) and not isinstance(node.test, ast.Name):
            yield change(node.test, "False")
            if isinstance(node, ast.If):
                yield change(node.test, "True")
        elif isinstance(node, ast.Expr) and isinstance(node.value, ast.Call) and not _tells(node.value):
            yield change(node, "pass")


def _tells(call: ast.Call) -> bool:
    """Whether a call only says how far something has come."""
    name = call.func.attr if isinstance(call.func, ast.Attribute) else getattr(call.func, "id", "")
    return name in ("tell", "append", "close", "sync")


def survives(mutant: Mutant, tree: Path) -> bool:
    """Whether the nearest tests pass with this change in a copy of the tree."""
    place = tree / CORE / mutant.file
    source = place.read_bytes()
    place.write_bytes(source[:mutant.start] + mutant.text.encode() + source[mutant.end:])
    try:
        done = subprocess.run(
            [sys.executable, "-m", "unittest", "-f", *(f"tests.{m}" for m in NEAREST[mutant.file])], cwd=tree,
            env={**os.environ, "PYTHONPATH": f"{tree / 'src'}:{tree}", "NOSTOS_EXAMPLES": "10"}, capture_output=True,
            check=False, timeout=300)
        return done.returncode == 0
    except subprocess.TimeoutExpired:
        return False  # it never ended, which nobody overlooks
    finally:
        place.write_bytes(source)


def main(arguments: list[str]) -> int:
    seconds = float(arguments[0]) if arguments else 600.0
    seed = int(arguments[1]) if arguments[1:] else random.randrange(10_000)
    every = [m for file in NEAREST for m in mutants(file)]
    random.Random(seed).shuffle(every)
    begun, tried, survivors = time.monotonic(), 0, []
    with tempfile.TemporaryDirectory(prefix="nostos-mutants-") as made:
        tree = Path(made)
        for folder in ("src", "tests"):
            shutil.copytree(ROOT / folder, tree / folder)
        for mutant in every:
            if time.monotonic() - begun > seconds:
                break
            tried += 1
            if survives(mutant, tree):
                survivors.append(mutant)
                print(f"nobody noticed: {mutant.file}:{mutant.line} {mutant.text} for {mutant.was[:90]}", flush=True)
    print(f"{tried} of {len(every)} changes tried (seed {seed}), {tried - len(survivors)} noticed, "
          f"{len(survivors)} not")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
