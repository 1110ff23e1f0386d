"""Every reader of what others wrote, given anything: `python -m tests.fuzz SECONDS [TARGET ...]`.

Guided by what is reached in the code where the package `atheris` is installed; else by chance alone. Each target runs
in a process of its own, with 250 MB and a minute for one text. What it may raise is said with it; anything else is a
finding, and the text that did it is kept in the folder `fuzz-findings`.
"""

from __future__ import annotations

import gc
import json
import os
import random
import resource
import socket
import sqlite3
import struct
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import closing, suppress
from pathlib import Path
from types import FunctionType
from unittest import mock

from nostos.core.backup.outlook import inspect_backup
from nostos.core.backup.write import backup
from nostos.core.clone.other_machines import machines_in
from nostos.core.database import definitions
from nostos.core.database.sql_text import calls, tokens
from nostos.core.database.url import read_url
from nostos.core.errors import NostosError
from nostos.core.files.trees import tree_at
from nostos.core.hosts import connection, helper
from nostos.core.hosts.connection import NearWire
from nostos.core.hosts.far_path import written
from nostos.core.hosts.running import run
from nostos.core.learning.findings import read_layer
from nostos.core.plan import selection_file
from nostos.core.profiles import loader
from nostos.core.sites import env_file, php_configuration
from nostos.core.sites.copy_configuration import rules
from nostos.core.sites.recognise import recognise
from nostos.core.sites.settings_reader import tree_of
from nostos.core.values import php
from nostos.core.values.located import numbers
from nostos.core.values.shapes import spots
from nostos.core.values.structures import read as structure
from nostos.core.values.urls import UrlForms
from nostos.core.voyages import history, journal
from nostos.core.voyages.home import Home

MEMORY, SECONDS = 250 << 20, 60  # beside what the program itself takes; for one text
FOLDER = Path(tempfile.mkdtemp(prefix="nostos-fuzz-"))
SITE_FILE = b'[site]\nname = "x"\nurl = "http://a.example"\ndatabase = "sqlite:///x.db"\n'
LIVE, COPY = UrlForms("https://a.example"), UrlForms("http://127.0.0.1:8431", also=("https://a.example",))


def _file(name: str, data: bytes) -> Path:
    path = FOLDER / name
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(data)
    return path


def values(data: bytes) -> None:
    """Texts out of rows."""
    text = data.decode("utf-8", "surrogateescape")
    spots(text)
    list(numbers(text))
    LIVE.from_tokens(LIVE.to_tokens(text))
    found = structure(text)
    if found is not None and found.text() != text:
        raise AssertionError("a structure is not written as it was read")
    with suppress(ValueError):
        read = php.read(text)
        if php.read(php.write(read)) != read:
            raise AssertionError("serialised data is not what was written")


def configurations(data: bytes) -> None:
    """A system's own files, in a folder that is looked at as a site."""
    for name in ("wp-config.php", ".env", "config/database.yml", "settings.py", "manage.py"):
        _file(f"site/{name}", data)
    with suppress(NostosError):
        recognise(FOLDER / "site")
    php_configuration.texts(data)
    env_file.values_in(data)
    tree_of(data)
    text = data.decode("utf-8", "replace")
    rules(text, LIVE, COPY)
    list(machines_in("x", text, ()))
    with suppress(ValueError):
        read_url(text)


def site_files(data: bytes) -> None:
    _file("named/nostos.toml", data)
    with suppress(NostosError):
        recognise(FOLDER / "named")


def profiles(data: bytes) -> None:
    with suppress(NostosError):
        loader.parse(data.decode("utf-8", "replace"), "x", FOLDER)


def selections(data: bytes) -> None:
    with suppress(NostosError):
        selection_file.read(_file("selection.toml", data))


def answers(data: bytes) -> None:
    with suppress(NostosError):
        read_layer(_file("answers.toml", data))


def records(data: bytes) -> None:
    """What lies in Nostos's own home."""
    home = Home(FOLDER / "home")
    _file(f"home/voyages/trip/{journal.FILE}", data)
    _file("home/voyages/trip/voyage.json", data)
    _file("home/history.jsonl", data)
    list(journal.read(FOLDER / "home/voyages/trip"))
    with suppress(NostosError):
        home.read("trip")
    with suppress(NostosError):
        history.entries(home)


def backups(data: bytes) -> None:
    _file("named/nostos.toml", SITE_FILE)
    sqlite3.connect(FOLDER / "named/x.db").close()
    with suppress(NostosError):
        inspect_backup(_file("x.tar.zst", data), recognise(FOLDER / "named"))


def statements(data: bytes) -> None:
    """What a database says of itself. What is taken as one definition is one by SQLite's own word, too."""
    text = data.decode("utf-8", "replace")
    for engine in ("sqlite", "mysql", "postgresql"):
        with suppress(NostosError):
            if "".join(t.text for t in tokens(text, engine)) != text:
                raise AssertionError("tokens that are not the text")
            calls(text, engine)
        with suppress(NostosError):
            definitions.part(text, engine, "x")
    for kind in ("table", "index", "view", "trigger"):
        with suppress(NostosError, UnicodeEncodeError):
            definitions.whole(text, "sqlite", kind, "x")
            _only(text, kind)


def _only(text: str, kind: str) -> None:
    allowed = {getattr(sqlite3, f"SQLITE_{name}") for name in (
        "INSERT", "READ", "UPDATE", "SELECT", "FUNCTION", "CREATE_TABLE", "CREATE_INDEX", "REINDEX", "CREATE_VIEW",
        "CREATE_TRIGGER", "RECURSIVE", "TRANSACTION")}
    with mock.patch.object(sys, "unraisablehook"):
        database = sqlite3.connect(":memory:")
        database.executescript("CREATE TABLE page (a, b); CREATE TABLE orders (a); INSERT INTO orders VALUES (1)")
        done: list[int] = []
        database.set_authorizer(lambda action, *_: done.append(action) or sqlite3.SQLITE_OK)
        with suppress(sqlite3.Error, sqlite3.Warning, ValueError):
            database.execute(text)
        database.set_authorizer(None)
        if set(done) - allowed or database.execute("SELECT count(*) FROM orders").fetchone() != (1,):
            raise AssertionError(f"a {kind} that does more: {set(done) - allowed}")
        database.close()


def wire_here(data: bytes) -> None:
    """What a helper sends, as bytes and, read, as answers to what is asked for."""
    _frames(data, True)
    with suppress(helper.WireError):
        said = NearWire.unpack(data)
        there = mock.Mock(**{"ask.return_value": said, "messages.side_effect": lambda *_: iter([said]), "locks": 0})
        with mock.patch.object(connection, "reach", return_value=there), mock.patch(
                "nostos.core.files.remote.asking.reach", return_value=there), mock.patch(
                "nostos.core.hosts.far_path.reach", return_value=there), mock.patch(
                "nostos.core.hosts.running.reach", return_value=there):
            tree = tree_at(written("far.example:/srv/site"))
            far = written("far.example:/srv/site/x")
            for ask in (lambda: tree.status("a"), lambda: tree.names(""), lambda: list(tree.scan((), ())),
                        lambda: tree.owner("a"), lambda: tree.entry("a", True), lambda: tree.led("a"), tree.free,
                        lambda: tree.digests(["a"]), lambda: tree.digest("a"), lambda: tree.link("a"), far.stat,
                        far.resolve, far.read_bytes, lambda: run(far, ["true"], 1)):
                with suppress(NostosError, OSError):
                    ask()


def wire_there(data: bytes) -> None:
    """What the helper is sent: bytes, and calls of each of its answers with anything in them."""
    if helper.FENCE.folders is None:
        place = FOLDER / "fence"
        (place / "a").mkdir(parents=True)
        (place / "a/b").write_text("hello")
        (FOLDER / "outside").write_text("secret")
        helper.FENCE.put_up([str(place)], [], [], [], [])
    _frames(data, False)
    with suppress(helper.WireError):
        said = helper.unpack(data)
        words = said if isinstance(said, list) else [said]
        names = sorted(n for n in dir(helper.Answers) if not n.startswith("_") and n not in ("TREE", "lock", "flush"))
        name = names[len(data) % len(names)]
        frame = helper.pack([name, *(w if w != "/" else str(FOLDER / "fence") for w in words)])
        _frames(struct.pack(">IBI", 1, helper.CALL, len(frame)) + frame, False)
    if (FOLDER / "outside").read_text() != "secret":
        raise AssertionError("something outside was touched")


def _frames(data: bytes, near: bool) -> None:
    mine, other = socket.socketpair()
    mine.settimeout(SECONDS)
    wire = (NearWire if near else helper.Wire)(other.makefile("rb"), other.makefile("wb"),
                                               None if near else helper.Answers())
    channel = wire.call("tree", "/", [], "status", "a") if near else None
    with suppress(OSError):
        mine.sendall(data[:60_000])
        mine.shutdown(socket.SHUT_WR)
    wire.run()
    if channel is not None:
        with suppress(helper.WireError, helper.Failed, EOFError):
            while True:
                channel.receive()
    mine.close()
    other.close()


TARGETS: dict[str, Callable[[bytes], None]] = {f.__name__: f for f in (
    values, configurations, site_files, profiles, selections, answers, records, backups, statements, wire_here,
    wire_there)}
SEEDS: dict[str, list[bytes]] = {
    "values": [b'a:1:{s:1:"a";i:21;}', b'{"a": [1, "/node/21"]}', b"<a href='https://a.example/?p=3'>", b"gid://app/T/21",
               b"- a: 21\n  b: x\n", b"b:1;O:1:\"a\":1:{s:1:\"b\";r:1;}"],
    "configurations": [b"<?php\ndefine('DB_NAME', getenv('X') ?: 'a');\n$table_prefix = 'kr_';\n",
                       b"DATABASE_URL=mysql://u:p@localhost/x\n", b"production:\n  adapter: mysql2\n  database: x\n",
                       b"import os\nDATABASES = {'default': {'ENGINE': 'x.sqlite3', 'NAME': os.path.join('a', 'b')}}"],
    "site_files": [SITE_FILE + b'[serve]\ncommand = ["a"]\n'],
    "profiles": [p.read_bytes() for p in sorted(Path(loader.__file__).parent.glob("*.toml"))],
    "selections": [b'[selection]\nvoyage = "trip"\ntake = ["page/*"]\n[decide]\n"a" = "live"\n[seen]\n"a" = "b"\n'],
    "answers": [b'[[answer]]\nplace = "a.b"\npoints_at = "c"\n'],
    "records": [b'{"step": "plan", "operations": []}\n{"step": "end"}\n'],
    "backups": [],
    "statements": [b"CREATE TRIGGER x AFTER INSERT ON page BEGIN SELECT CASE WHEN 1 THEN 2 END; END",
                   b"CREATE UNIQUE INDEX x ON page (a, lower(b)) WHERE a > 'b;'", b"CREATE VIEW x AS SELECT 1, \"a\"",
                   b"CREATE TABLE x (a int CHECK (a > 1), -- c\n b text DEFAULT ';')", b"$a$ ; $a$, [x], `y`",
                   b"varchar(40) DEFAULT E'a\\'b' /* */"],
    "wire_here": [helper.pack(["file", 1, 0o644, 1, 1, None]), helper.pack([["a", "file", 1, 0o644, 1, 1, None]])],
    "wire_there": [helper.pack(["/", [], "status", "a"]), helper.pack(["/", [], [["names", ""]], False]),
                   helper.pack(["/", [], "a/b", 0o600, None, None]), helper.pack(["/a/b", "ro", 1.0])]}


def _one(name: str, seconds: float) -> None:
    """Run a target in this process. Ends it with what was found."""
    own = int(Path("/proc/self/statm").read_text().split()[1]) * resource.getpagesize()
    target = TARGETS[name]
    seeds = SEEDS[name] or [_a_backup()]
    try:
        import atheris
    except ImportError:
        _by_chance(target, seeds, seconds, own)
        return
    corpus, kept = FOLDER / "corpus", Path("fuzz-findings")
    corpus.mkdir()
    kept.mkdir(exist_ok=True)
    for number, seed in enumerate(seeds):
        (corpus / str(number)).write_bytes(seed)
    own_code = {f for f in gc.get_objects() if isinstance(f, FunctionType) and str(f.__module__).startswith("nostos")}
    for function in own_code:
        atheris.instrument_func(function)
    atheris.Setup([sys.argv[0], str(corpus), f"-max_total_time={int(seconds)}", f"-timeout={SECONDS}", "-max_len=4096",
                   f"-rss_limit_mb={(own + MEMORY) >> 20}", f"-artifact_prefix={kept}/{name}-", "-print_final_stats=1",
                   "-verbosity=0", "-close_fd_mask=1"], target)
    atheris.Fuzz()


def _a_backup() -> bytes:
    site = _file("made/nostos.toml", SITE_FILE).parent
    with closing(sqlite3.connect(site / "x.db")) as database:
        database.executescript("CREATE TABLE page (id INTEGER PRIMARY KEY, a); INSERT INTO page VALUES (1, 'x')")
    backup(recognise(site), FOLDER / "made.tar.zst")
    return (FOLDER / "made.tar.zst").read_bytes()


def _by_chance(target: Callable[[bytes], None], seeds: list[bytes], seconds: float, own: int) -> None:
    chance, until, count = random.Random(7), time.monotonic() + seconds, 0
    while time.monotonic() < until:
        text = bytearray(chance.choice(seeds))
        for _ in range(chance.randint(1, 8)):
            at, size = chance.randint(0, len(text)), chance.randint(0, 12)
            more = chance.choice(seeds)[at:at + size] if chance.random() < 0.5 else os.urandom(size)
            text[at:at + chance.randint(0, 6)] = more * chance.choice((1, 1, 1, 50))
        begun = time.monotonic()
        try:
            target(bytes(text))
        except BaseException:
            _file("found", bytes(text))
            raise
        count += 1
        used = int(Path("/proc/self/statm").read_text().split()[1]) * resource.getpagesize()
        if used > own + MEMORY or time.monotonic() - begun > SECONDS:
            raise AssertionError(f"{used >> 20} MB, {time.monotonic() - begun:.0f} s for {bytes(text)[:200]!r}")
    print(json.dumps({"texts": count}))


def main(words: list[str]) -> int:
    if words[0] == "one":
        _one(words[1], float(words[2]))
        return 0
    wrong = 0
    for name in words[1:] or list(TARGETS):
        done = subprocess.run([sys.executable, "-m", "tests.fuzz", "one", name, words[0]], capture_output=True,
                              text=True, check=False)
        lines = done.stderr.strip().splitlines()
        said = [line for line in lines if "stat::number_of_executed_units" in line or "stat::peak_rss" in line]
        wrong += done.returncode != 0
        print(name, "found something:" if done.returncode else "nothing found;", *(
            lines[-40:] if done.returncode else said or [done.stdout.strip()]), sep="\n  " if done.returncode else " ",
            flush=True)
    return bool(wrong)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:] or ["60"]))
