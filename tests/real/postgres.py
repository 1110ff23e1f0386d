"""A private PostgreSQL server in a temporary folder, on a free port."""

from __future__ import annotations

import atexit
import getpass
import os
import pwd
import shutil
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from functools import cache
from glob import glob
from pathlib import Path
from urllib.parse import quote

import psycopg

from tests.real.servers import free_port

PASSWORD = "pw'\\\"$x"  # as awkward as a real one


def _programs() -> Path | None:
    found = sorted(glob("/usr/lib/postgresql/*/bin/initdb"))
    return Path(found[-1]).parent if found else None


def missing() -> str:
    """What keeps these tests from running here; empty when nothing does."""
    return "" if _programs() is not None else "not installed: postgresql"


class Postgres:
    """A server, stopped and removed when the tests end."""

    def __init__(self) -> None:
        programs = _programs()
        assert programs is not None
        self.folder = Path(tempfile.mkdtemp(prefix="nostos-pg-"))
        self.port = free_port()
        self.user = "postgres" if os.geteuid() == 0 else getpass.getuser()  # it does not run as root
        if os.geteuid() == 0:
            known = pwd.getpwnam(self.user)
            os.chown(self.folder, known.pw_uid, known.pw_gid)
        self.folder.chmod(0o755)
        as_user = ["runuser", "-u", self.user, "--"] if os.geteuid() == 0 else []
        data = str(self.folder / "data")
        subprocess.run([*as_user, str(programs / "initdb"), "-D", data, "-A", "trust", "-E", "UTF8", "--locale=C.UTF-8",
                        "--no-sync"], check=True, capture_output=True, cwd="/")
        self.process = subprocess.Popen(
            [*as_user, str(programs / "postgres"), "-D", data, "-p", str(self.port), "-k",
             str(self.folder), "-c", "listen_addresses=127.0.0.1", "-c", "fsync=off", "-c", "max_connections=200"],
            stderr=subprocess.DEVNULL, cwd="/")
        atexit.register(self.stop)
        self.count = 0
        for _ in range(200):
            with suppress(psycopg.OperationalError):
                self.run("SELECT 1")
                break
            time.sleep(0.05)
        self.run(f"CREATE ROLE live LOGIN CREATEDB PASSWORD '{PASSWORD.replace(chr(39), chr(39) * 2)}'")

    def run(self, sql: str, database: str = "postgres") -> list[tuple[object, ...]]:
        """Statements, as the server's own user."""
        with psycopg.connect(host=str(self.folder), port=self.port, user=self.user, dbname=database, autocommit=True,
                             cursor_factory=psycopg.ClientCursor) as connection:
            cursor = connection.execute(sql.encode())
            return cursor.fetchall() if cursor.description else []

    def new_database(self) -> str:
        self.count += 1
        name = f"site{os.getpid()}x{self.count}"
        self.run(f"CREATE DATABASE {name} OWNER live")
        return name

    def url(self, name: str) -> str:
        return f"postgresql://live:{quote(PASSWORD, safe='')}@127.0.0.1:{self.port}/{name}"

    def stop(self) -> None:
        if self.process.poll() is None:
            self.process.terminate()
            self.process.wait()
        shutil.rmtree(self.folder, ignore_errors=True)


@contextmanager
def pooler(server: Postgres) -> Iterator[int]:
    """A pooler before the server, which gives connections away after each transaction. Gives its port."""
    folder, port = Path(tempfile.mkdtemp(prefix="nostos-pool-")), free_port()
    (folder / "users").write_text('"live" "' + PASSWORD.replace('"', '""') + '"\n')
    (folder / "ini").write_text(
        f"[databases]\n* = host=127.0.0.1 port={server.port}\n[pgbouncer]\nlisten_addr = 127.0.0.1\n"
        f"listen_port = {port}\nauth_type = trust\nauth_file = {folder}/users\npool_mode = transaction\n"
        f"unix_socket_dir =\nlogfile = {folder}/log\nignore_startup_parameters = extra_float_digits\n")
    if os.geteuid() == 0:
        subprocess.run(["chown", "-R", server.user, str(folder)], check=True)
    as_user = ["runuser", "-u", server.user, "--"] if os.geteuid() == 0 else []
    process = subprocess.Popen([*as_user, str(shutil.which("pgbouncer")), str(folder / "ini")],
                               stderr=subprocess.DEVNULL, cwd="/")
    try:
        for _ in range(100):
            with suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
                break
            time.sleep(0.05)
        yield port
    finally:
        process.terminate()
        process.wait()
        shutil.rmtree(folder, ignore_errors=True)


@cache
def postgres() -> Postgres:
    return Postgres()
