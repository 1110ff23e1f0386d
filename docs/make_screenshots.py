"""Make docs/screenshots afresh from the demo's data: `make screenshots`.

Commands are photographed in a real terminal window (xterm under Xvfb), pages in headless Chromium. Needs Debian's
packages chromium, xvfb, xterm and imagemagick.
"""

from __future__ import annotations

import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from nostos.around.tide import tide
from nostos.cli.environment import Environment
from nostos.cli.main import main
from nostos.core.sites.recognise import recognise
from nostos.demo.seed import make
from nostos.demo.story import SHOWING_URL, VOYAGE, Story
from nostos.demo.system import Observatory
from nostos.show.tides import figure

HERE = Path(__file__).parent / "screenshots"
SIZE = (1280, 800)
DISPLAY = ":87"
NEEDED = ("chromium", "Xvfb", "xterm", "import")


def photograph_command(folder: Path, name: str, command: list[str], prepare: str = "", wait: bool = True) -> None:
    """Run a command in a terminal window and photograph the window. wait: until it has ended."""
    photograph_commands(folder, name, [command], prepare, wait)


def photograph_commands(folder: Path, name: str, commands: list[list[str]], prepare: str = "", wait: bool = True
                        ) -> None:
    """The same of several commands, one after the other."""
    done = folder / "done"
    done.unlink(missing_ok=True)
    script = "clear; "
    for command in commands:
        shown = shlex.join(["nostos", *command]).replace(f"{folder}/", "")
        script += (f"printf '\\033[1m$ %s\\033[0m\\n' {shlex.quote(shown)}; {prepare} {sys.executable} -m nostos "
                   f"{shlex.join(command)} --home {folder}/voyages; ")
    script += f"touch {done}; sleep 60"
    window = subprocess.Popen(
        ["xterm", "-display", DISPLAY, "-geometry", "158x46+0+0", "-fa", "DejaVu Sans Mono", "-fs", "10", "-b", "8",
         "-bg", "#14161c", "-fg", "#e4e6eb", "+sb", "-e", "bash", "-c", script], cwd=folder)
    for _ in range(300 if wait else 30):
        if done.exists():
            break
        time.sleep(0.1)
    time.sleep(0.7)
    subprocess.run(["import", "-display", DISPLAY, "-window", "root", str(HERE / f"{name}.png")], check=True)
    window.terminate()
    window.wait()


def photograph_page(url: str, name: str) -> None:
    """Photograph a page in headless Chromium."""
    with tempfile.TemporaryDirectory() as profile:
        subprocess.run(
            ["chromium", "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
             "--disable-background-networking", "--disable-component-update", "--disable-sync", "--hide-scrollbars",
             f"--user-data-dir={profile}", f"--window-size={SIZE[0]},{SIZE[1]}",
             f"--screenshot={HERE / name}.png", url],
            check=True, capture_output=True, timeout=120)


def play(folder: Path, shots: dict[str, Callable[[Path], None]]) -> None:
    """Play the story; in the place of the first commands with these words, take pictures of them."""
    story = Story(folder)
    story.begin()
    waiting = dict(shots)
    for scene in story.scenes(whole=False):
        shown = next((words for words in waiting if scene.command and " ".join(scene.command).startswith(words)), None)
        if shown is not None:
            waiting.pop(shown)(folder)
        if scene.act:
            scene.act()
        if scene.command and shown is None:
            with (folder / "log").open("a") as log:
                main([*scene.command, "--home", str(story.home)], Environment(stdout=log, stderr=log))


def take_all(folder: Path) -> None:
    story = Story(folder)

    def clone(_: Path) -> None:
        photograph_command(folder, "survey", ["survey", str(story.live_folder)])
        photograph_command(folder, "clone", ["clone", str(story.live_folder), VOYAGE, "--into",
                                             str(story.staging_folder), "--url", story.staging_url])

    def compare(_: Path) -> None:
        photograph_command(folder, "compare", ["compare", VOYAGE])

    def fields(_: Path) -> None:
        photograph_command(folder, "compare-item", ["compare", VOYAGE, "page/programme", "page/visit"])

    def select(_: Path) -> None:
        photograph_command(folder, "select-interactive", ["select", VOYAGE, "--interactive"], wait=False)
        photograph_command(folder, "select", ["select", VOYAGE, "--prefer", "staging", "page/visit", "--save",
                                              str(story.selection)])

    def merge(_: Path) -> None:  # both sites answer by now
        photograph_command(folder, "merge", ["merge", VOYAGE, "--selection", str(story.selection), "--yes", "--watch"])
        photograph_page(story.live_url + "/autumn-programme", "live-after")

    def rehearse(_: Path) -> None:
        photograph_command(folder, "rehearse", ["rehearse", VOYAGE, "--selection", str(story.selection)])

    def trial(_: Path) -> None:
        photograph_command(folder, "trial", ["trial", VOYAGE, "--remember", "redesign"])
        with (folder / "log").open("a") as log:  # both sites answer now
            main(["compare", VOYAGE, "--html", str(folder / "pictures.html"), "--pictures", "--home", str(story.home)],
                 Environment(stdout=log, stderr=log))
        photograph_page(f"file://{folder}/pictures.html", "report")

    def versions(_: Path) -> None:
        photograph_command(folder, "versions", ["versions", VOYAGE])

    play(folder, {
        "clone": clone, f"trial {VOYAGE}": trial, f"versions {VOYAGE}": versions, f"compare {VOYAGE} --html": compare,
        f"compare {VOYAGE} page/programme": fields, f"select {VOYAGE}": select,
        f"rehearse {VOYAGE}": rehearse, f"merge {VOYAGE} --selection": merge})
    story.one_more_order()
    photograph_command(folder, "undo", ["undo", VOYAGE, "--yes"])
    photograph_command(folder, "refresh", ["refresh", VOYAGE, "--yes"])
    photograph_command(folder, "status", ["status"], prepare="")
    with (folder / "log").open("a") as log:
        main(["backup", str(story.live_folder), "--to", str(story.backup), "--home", str(story.home)],
             Environment(stdout=log, stderr=log))
    story.an_accident()
    photograph_commands(folder, "restore", [
        ["restore", str(story.backup), str(story.live_folder), "--dry-run"],
        ["restore", str(story.backup), str(story.live_folder), "--take", "page/school-groups", "--yes"], ["history"]])
    photograph_command(folder, "mask", ["clone", str(story.live_folder), "showing", "--into", str(story.showing),
                                        "--url", SHOWING_URL, "--mask"])
    story.twelve_weeks()
    figure(tide(recognise(story.live_folder)), HERE / "tide.png")


def take_unknown(folder: Path) -> None:
    """An extension that no profile names: galleries on live, one more in staging."""
    make(folder / "gallery" / "live", "http://127.0.0.1:8441")
    site = Observatory(folder / "gallery" / "live")
    with site.database_open() as db:
        db.executescript("""
            CREATE TABLE ext_gallery (id INTEGER PRIMARY KEY AUTOINCREMENT, title TEXT, slug TEXT, cover INTEGER,
                                      frames TEXT);
            CREATE TABLE ext_gallery_guests (id INTEGER PRIMARY KEY AUTOINCREMENT, gallery INTEGER, email TEXT);""")
        pictures = [row["id"] for row in db.execute("SELECT id FROM content WHERE kind='picture'")]
        for n, title in enumerate(("Winter sky", "The dome", "Open evenings")):
            db.execute("INSERT INTO ext_gallery (title, slug, cover, frames) VALUES (?, ?, ?, ?)",
                       (title, title.lower().replace(" ", "-"), pictures[n], f"{pictures[n]},{pictures[n + 1]}"))
            db.execute("INSERT INTO ext_gallery_guests (gallery, email) VALUES (?, ?)", (n + 1, "a@visitor.example"))
    log = (folder / "log").open("a")
    main(["clone", str(site.folder), "gallery", "--into", str(folder / "gallery" / "staging"), "--url",
          "http://127.0.0.1:8442", "--home", str(folder / "voyages")], Environment(stdout=log, stderr=log))
    staging = Observatory(folder / "gallery" / "staging")
    shown = staging.add_picture("comet", "The comet", "<svg/>\n")
    with staging.database_open() as db:
        db.execute("INSERT INTO ext_gallery (title, slug, cover, frames) VALUES ('Comet', 'comet', ?, ?)",
                   (shown, f"{pictures[0]},{shown}"))
    photograph_commands(folder, "learn", [
        ["compare", "gallery", "--standing", "open"], ["learn", "gallery", "--answer", "ext_gallery.frames=content"]])


def run() -> int:
    missing = [n for n in NEEDED if shutil.which(n) is None]
    if missing:
        print(f"Missing: {', '.join(missing)}. On Debian: apt-get install chromium xvfb xterm imagemagick")
        return 3
    HERE.mkdir(exist_ok=True)
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-noreset", "-screen", "0", f"{SIZE[0]}x{SIZE[1]}x24"],
                              stderr=subprocess.DEVNULL)
    time.sleep(1)
    try:
        with tempfile.TemporaryDirectory(prefix="kestrel-") as folder:
            take_unknown(Path(folder))
            take_all(Path(folder))
    finally:
        screen.terminate()
    return 0


if __name__ == "__main__":
    sys.exit(run())
