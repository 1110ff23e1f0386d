"""Clone of a big tree of files beside a plain recursive copy: `python -m bench.files [FILES]`.

Makes a site of so many files (20,000 if left out: 0.8 GB) whose database is next to empty, and prints the ratio of
clone, digests included, to `cp -a`.
"""

from __future__ import annotations

import os
import random
import sqlite3
import subprocess
import sys
import tempfile
from pathlib import Path

from bench.database import timed
from nostos.core.clone.clone import clone
from nostos.core.voyages.home import Home


def make(folder: Path, files: int) -> None:
    """A site of pictures and code: most files small, one in fifty large."""
    chance = random.Random(7)
    (folder / "data").mkdir(parents=True)
    (folder / "nostos.toml").write_text('[site]\nname = "big"\nurl = "https://ridge.example"\n'
                                        'database = "sqlite:///data/site.db"\n')
    connection = sqlite3.connect(folder / "data/site.db")
    connection.execute("CREATE TABLE t (id INTEGER PRIMARY KEY)")
    connection.close()
    for number in range(files):
        size = 1_200_000 if number % 50 == 0 else chance.randrange(500, 33_000)
        path = folder / "files" / str(number % 300) / f"{number}.bin"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(chance.randbytes(size))


def main(files: int) -> None:
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made)
        make(folder / "live", files)
        size = sum(p.stat().st_size for p in (folder / "live").rglob("*") if p.is_file())
        os.sync()
        pairs = []
        for turn in range(5):  # by turns, for the disk's mood changes
            plain = timed(lambda turn=turn: subprocess.run(
                ["/bin/cp", "-a", folder / "live", folder / f"plain{turn}"], check=True))
            os.sync()
            ours = timed(lambda turn=turn: clone(Home(folder / "home"), folder / "live", f"bench{turn}",
                                                 folder / f"staging{turn}", f"https://staging{turn}.example"))
            os.sync()
            pairs.append((ours / plain, ours, plain))
    (least, *_), _, (ratio, ours, plain), _, (most, *_) = sorted(pairs)
    print(f"{files:,} files, {size / 1e9:.2f} GB")
    print(f"clone:   {ours:7.2f} s, plain {plain:7.2f} s, ratio {ratio:5.2f} (bar: 1.5), the middle of five turns "
          f"({least:.2f} to {most:.2f})")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 20_000)
