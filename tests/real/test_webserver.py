"""What a clone says to tell a web server, told to real ones: the copy answers, and what is private does not."""

from __future__ import annotations

import http.server
import shutil
import subprocess
import tempfile
import threading
import time
import unittest
import urllib.error
import urllib.request
from pathlib import Path

from nostos.core.hosts.helper import free_port
from nostos.core.voyages.home import Voyage
from nostos.show.webserver import left_to_do

MODULES = "/usr/lib/apache2/modules"
APACHE = """ServerRoot "{at}"
PidFile {at}/apache.pid
ErrorLog {at}/apache.log
ServerName localhost
{modules}
Listen 127.0.0.1:{port}
{site}
"""
NGINX = """pid {at}/nginx.pid; error_log {at}/nginx.log; daemon off; events {{}}
http {{ access_log off; client_body_temp_path {at}/body; proxy_temp_path {at}/proxy; fastcgi_temp_path {at}/fast;
uwsgi_temp_path {at}/uwsgi; scgi_temp_path {at}/scgi; {site} }}
"""
PRIVATE = ("nostos.toml", "data/site.db", "data/site.db-wal", ".env", ".git/config", ".nostos/voyages/x/anchor.sqlite",
           "settings.py", "config.ini", "dump.sql", "secrets/database.json", "in/.htpasswd")


class Backend(http.server.BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        self.send_response(200 if self.path == "/" else 404)
        self.end_headers()
        self.wfile.write(b"the project")

    def log_message(self, *_: object) -> None:
        pass


@unittest.skipUnless(shutil.which("nginx") and shutil.which("apache2"), "not installed: nginx, apache2")
class WebServers(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="nostos-test-"))
        self.folder.chmod(0o755)
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        self.root = self.folder / "copy" / "public"
        for path in (*PRIVATE, "index.html", "paper.pdf", "manage.py"):
            (self.root / path).parent.mkdir(parents=True, exist_ok=True)
            (self.root / path).write_text("here")
        self.port = free_port()

    def answers(self, path: str) -> tuple[int, bytes]:
        asked = urllib.request.Request(f"http://127.0.0.1:{self.port}/{path}", headers={"Host": "staging.example"})
        for _ in range(100):
            try:
                with urllib.request.urlopen(asked, timeout=10) as answer:
                    return answer.status, answer.read()
            except urllib.error.HTTPError as error:
                return error.code, error.read()
            except OSError:
                time.sleep(0.05)
        raise AssertionError("no web server answers")

    def served(self, server: str, program: str, backend: int = 0) -> None:
        """Tell a server what a clone says."""
        voyage = Voyage("trip", "1", "", "ridge", "http://ridge.example", "", str(self.folder / "copy"),
                        "http://staging.example", "", "")
        said = left_to_do(voyage, program, "public", ("secrets/database.json", "data/site.db"))
        site = said[said.index(next(s for s in said if s.startswith(f"for {server}"))) + 1]
        site = site.replace("*:80", f"127.0.0.1:{self.port}").replace("listen 80", f"listen 127.0.0.1:{self.port}")
        site = site.replace("127.0.0.1:8000", f"127.0.0.1:{backend}").replace("fastcgi.conf", "/etc/nginx/fastcgi.conf")
        at = self.folder / f"{server}{program}"
        at.mkdir()
        file = at / "config"
        if server == "nginx":
            file.write_text(NGINX.format(at=at, site=site))
            command = ["nginx", "-c", str(file), "-e", f"{at}/nginx.log"]
        else:
            modules = "\n".join(f"LoadModule {m}_module {MODULES}/mod_{m}.so" for m in (
                "mpm_event", "authz_core", "dir", "proxy", "proxy_http") if Path(f"{MODULES}/mod_{m}.so").exists())
            file.write_text(APACHE.format(at=at, port=self.port, site=site, modules=modules))
            command = ["apache2", "-DFOREGROUND", "-f", str(file)]
        process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        self.addCleanup(process.wait)
        self.addCleanup(process.terminate)

    def test_files(self) -> None:
        for server in ("nginx", "Apache"):
            for program in ("", "php"):
                with self.subTest(server=server, program=program):
                    self.port = free_port()
                    self.served(server, program)
                    self.assertEqual(self.answers("paper.pdf"), (200, b"here"))
                    for path in PRIVATE:
                        status, said = self.answers(path)
                        self.assertIn(status, (403, 404), path)
                        self.assertNotIn(b"here", said)

    def test_a_project_that_answers_by_itself(self) -> None:
        backend = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Backend)
        threading.Thread(target=backend.serve_forever, daemon=True).start()
        self.addCleanup(backend.server_close)
        self.addCleanup(backend.shutdown)
        for server in ("nginx", "Apache"):
            with self.subTest(server):
                self.port = free_port()
                self.served(server, "python", backend.server_address[1])
                self.assertEqual(self.answers(""), (200, b"the project"))
                for path in (*PRIVATE, "manage.py", "paper.pdf"):
                    self.assertEqual(self.answers(path), (404, b"the project"), path)

if __name__ == "__main__":
    unittest.main()
