"""Private servers in temporary folders, on free ports: a MariaDB, and PHP's own web server for a site."""

from __future__ import annotations

import atexit
import getpass
import os
import shutil
import subprocess
import tempfile
import time
import unittest
import urllib.error
import urllib.request
from functools import cache
from pathlib import Path

import pymysql

from tests.support import free_port

SYSTEM = Path("/usr/share/wordpress")
NEEDED = {"mariadbd": "mariadb-server", "mariadb-install-db": "mariadb-server", "php": "php-cli"}
PASSWORD = "pw'\\\"$x"  # as awkward as a real one


def missing() -> str:
    """What keeps these tests from running here; empty when nothing does."""
    lacking = sorted({p for n, p in NEEDED.items() if shutil.which(n) is None})
    if not SYSTEM.is_dir():
        lacking.append("wordpress")
    return f"not installed: {', '.join(lacking)}" if lacking else ""


class MariaDB:
    """A private server. It is stopped and removed when the tests end."""

    def __init__(self, flush: int = 2) -> None:
        self.flush = flush
        self.folder = Path(tempfile.mkdtemp(prefix="nostos-db-"))
        self.port = free_port()
        self.socket = str(self.folder / "s")
        self.log = self.folder / "log"
        data = self.folder / "data"
        subprocess.run(["mariadb-install-db", "--no-defaults", f"--datadir={data}", "--auth-root-authentication-method="
                        "normal", "--skip-test-db", f"--user={getpass.getuser()}"], check=True, capture_output=True)
        self.start()
        atexit.register(self.stop)
        self.run("CREATE USER live@localhost IDENTIFIED BY %s", PASSWORD)
        self.run("GRANT ALL ON *.* TO live@localhost")
        self.run("CREATE USER owner@localhost IDENTIFIED BY %s", PASSWORD)
        self.run("GRANT ALL ON *.* TO owner@localhost WITH GRANT OPTION")
        self.count = 0

    def start(self) -> None:
        self.process = subprocess.Popen(
            ["mariadbd", "--no-defaults", f"--datadir={self.folder / 'data'}", f"--socket={self.socket}",
             f"--port={self.port}", "--max-allowed-packet=64M", f"--tmpdir={self.folder}",  # no other server's
             "--bind-address=127.0.0.1", f"--user={getpass.getuser()}", "--innodb-buffer-pool-size=128M",
             f"--pid-file={self.folder / 'pid'}", f"--innodb-flush-log-at-trx-commit={self.flush}",
             f"--log-error={self.log}", "--character-set-server=utf8mb4"],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        for _ in range(300):
            try:
                self.run("SELECT 1")
                break
            except pymysql.err.OperationalError:
                time.sleep(0.1)

    def ended(self) -> str:
        """How a server that should be running has ended, with the last of its log; empty while it runs."""
        code = self.process.poll()
        return "" if code is None else (f"the MariaDB of the tests ended with {code}\n"
                                        + self.log.read_text(errors="replace")[-6000:])

    def restart(self) -> None:
        """As after a crash: killed, and started again."""
        self.process.kill()
        self.process.wait()
        self.start()

    def run(self, sql: str, *values: object, database: str = "") -> list[tuple[object, ...]]:
        """Run a statement as the server's root. Returns the rows."""
        connection = pymysql.connect(unix_socket=self.socket, user="root", database=database or None,
                                     charset="utf8mb4", autocommit=True, ssl_disabled=True)  # a socket needs none
        try:
            cursor = connection.cursor()
            cursor.execute(sql, values or None)
            return list(cursor.fetchall())
        finally:
            connection.close()

    def new_database(self) -> str:
        self.count += 1
        name = f"site{os.getpid()}x{self.count}"  # other processes have sites on it as well
        self.run(f"CREATE DATABASE {name} CHARACTER SET utf8mb4")
        return name

    def stop(self) -> None:
        self.process.terminate()
        self.process.wait()
        shutil.rmtree(self.folder, ignore_errors=True)


class SharedMariaDB(MariaDB):
    """A server that another process has started for all tests, and stops."""

    def __init__(self, socket: str, port: int) -> None:
        self.socket, self.port, self.count = socket, port, 0

    def stop(self) -> None:
        return


SHARED = "NOSTOS_TEST_MARIADB"  # the socket and the port of the shared server


@cache
def mariadb(number: int = 1) -> MariaDB:
    """The one server that all tests share; others by other numbers."""
    socket, _, port = os.environ.get(SHARED, "").rpartition(":")
    return SharedMariaDB(socket, int(port)) if socket and number == 1 else MariaDB()


CONFIGURATION = """<?php
/* The observatory's own settings. */
define( 'DB_NAME', '{database}' );   // the database
define("DB_USER", 'live');
define( 'DB_PASSWORD', '{password}' );
define( 'DB_HOST', 'localhost:{socket}' );
define( 'DB_CHARSET', 'utf8mb4' );
# define( 'DB_NAME', 'not_this_one' );
define( 'DB_COLLATE', '' );
define( 'AUTH_KEY', 'made up; not a secret' );
define( 'WP_HTTP_BLOCK_EXTERNAL', true );
$table_prefix = "{prefix}";
if ( ! defined( 'ABSPATH' ) ) {{ define( 'ABSPATH', __DIR__ . '/' ); }}
require_once ABSPATH . 'wp-settings.php';
"""


class PhpSite:
    """A site of the real system in a folder: installed through its own function, served by PHP."""

    def __init__(self, folder: Path, port: int = 0) -> None:
        self.folder = folder
        self.port = port or free_port()
        self.url = f"http://127.0.0.1:{self.port}"

    def install(self, prefix: str = "kr_") -> PhpSite:
        copy_system(self.folder)
        server = mariadb()
        escaped = PASSWORD.replace("\\", "\\\\").replace("'", "\\'")
        (self.folder / "wp-config.php").write_text(CONFIGURATION.format(
            database=server.new_database(), password=escaped, socket=server.socket, prefix=prefix))
        self.php("define('WP_INSTALLING', true);", (
            "require_once ABSPATH . 'wp-admin/includes/upgrade.php';"
            "wp_install('Kestrel Ridge', 'maren', 'maren@kestrel-ridge.example', true, '', 'made-up-pass');"
            f"update_option('siteurl', '{self.url}'); update_option('home', '{self.url}');"
            "update_option('permalink_structure', '');"))
        return self

    def php(self, before: str = "", code: str = "") -> str:
        """Run PHP code with the whole system loaded. Returns what it prints."""
        script = (f"<?php error_reporting(E_ALL & ~E_DEPRECATED); {before} $_SERVER['HTTP_HOST'] ??= "
                  f"'127.0.0.1:{self.port}'; require '{self.folder}/wp-load.php'; {code}")
        done = subprocess.run(["php", "-d", "memory_limit=512M", "-d", "display_errors=stderr"], input=script,
                              text=True, capture_output=True, cwd=self.folder, timeout=120, check=False)
        if done.returncode:
            raise AssertionError(f"PHP failed: {done.stderr}\n{done.stdout}")
        return done.stdout

    def __call__(self, code: str) -> str:
        return self.php(code=code)

    def serve(self, test: unittest.TestCase, workers: int = 1) -> None:
        process = subprocess.Popen(["php", "-S", f"127.0.0.1:{self.port}", "-t", str(self.folder)],
                                   stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                                   env={**os.environ, **({"PHP_CLI_SERVER_WORKERS": str(workers)} if workers > 1
                                                         else {})})
        test.addCleanup(process.wait)
        test.addCleanup(process.terminate)
        for _ in range(100):
            try:
                self.get("/")
                break
            except OSError:
                time.sleep(0.1)

    def get(self, path: str, host: str = "") -> str:
        asked = urllib.request.Request(self.url + path, headers={"Host": host} if host else {})
        try:
            with urllib.request.urlopen(asked, timeout=30) as answer:
                return answer.read().decode()
        except urllib.error.HTTPError as error:
            return error.read().decode()


def copy_system(folder: Path) -> None:
    """The system's files without its package's links to elsewhere."""
    shutil.copytree(SYSTEM, folder, ignore=lambda d, names: [
        n for n in names if n in ("wp-config.php", ".htaccess") or not os.path.exists(os.path.join(d, n))
        or (d.endswith("/plugins") and n != "index.php")])
