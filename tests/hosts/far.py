"""A real ssh server on this machine, with keys and an account of its own: what Nostos sees as another machine."""

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
from contextlib import suppress
from pathlib import Path

USER = "nostos-far"
HOST, OTHER = "far.example", "other.example"  # two names of it


def missing() -> str:
    """What is missing for it; empty where nothing is."""
    if not Path("/usr/sbin/sshd").exists() or shutil.which("ssh") is None:
        return "OpenSSH is not installed"
    return ""


def free_port() -> int:
    with socket.socket() as made:
        made.bind(("127.0.0.1", 0))
        return int(made.getsockname()[1])


class Far:
    """The server. home: a folder of the account's that it logs in to. command: what starts ssh so that it knows it."""

    def __init__(self) -> None:
        self.user = getpass.getuser()
        if os.geteuid() == 0:
            self.user = USER
            if subprocess.run(["id", USER], capture_output=True).returncode:
                subprocess.run(["useradd", "--system", "--create-home", "--shell", "/bin/sh", "--password", "*", USER],
                               check=True)
        self.folder = Path(tempfile.mkdtemp(prefix="nostos-sshd-"))
        self.folder.chmod(0o755)
        atexit.register(self.close)
        for name in ("host", "user"):
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(self.folder / name)], check=True)
        keys = self.folder / "keys"
        shutil.copy(self.folder / "user.pub", keys)
        keys.chmod(0o644)
        self.port = free_port()
        Path("/run/sshd").mkdir(exist_ok=True)
        (self.folder / "sshd.conf").write_text(
            f"Port {self.port}\nListenAddress 127.0.0.1\nHostKey {self.folder}/host\nAuthorizedKeysFile {keys}\n"
            f"PidFile {self.folder}/pid\nStrictModes no\nUsePAM no\nPasswordAuthentication no\nMaxSessions 100\n"
            "MaxStartups 100\n")
        self.process = subprocess.Popen(["/usr/sbin/sshd", "-D", "-e", "-f", str(self.folder / "sshd.conf")],
                                        stderr=(self.folder / "log").open("wb"))
        known = (self.folder / "host.pub").read_text().split()[:2]
        (self.folder / "known").write_text(f"[127.0.0.1]:{self.port} {' '.join(known)}\n")
        (self.folder / "config").write_text(
            f"Host {HOST} {OTHER}\n  HostName 127.0.0.1\n  Port {self.port}\n  User {self.user}\n"
            f"  IdentityFile {self.folder}/user\n  IdentitiesOnly yes\n  UserKnownHostsFile {self.folder}/known\n"
            "  StrictHostKeyChecking yes\n  BatchMode yes\n")
        self.command = f"ssh -F {self.folder}/config"
        for _ in range(100):
            with suppress(OSError), socket.create_connection(("127.0.0.1", self.port), 1):
                break
            time.sleep(0.05)

    def place(self) -> Path:
        """A new folder of the account's."""
        made = Path(tempfile.mkdtemp(prefix="nostos-far-"))
        made.chmod(0o755)
        if os.geteuid() == 0:
            known = pwd.getpwnam(self.user)
            os.chown(made, known.pw_uid, known.pw_gid)
        return made

    def give(self, folder: Path) -> None:
        """Let all in a folder belong to the account."""
        if os.geteuid() == 0:
            subprocess.run(["chown", "-R", f"{self.user}:", str(folder)], check=True)

    def close(self) -> None:
        if self.process.poll() is None:
            self.process.terminate()
            self.process.wait()
        shutil.rmtree(self.folder, ignore_errors=True)
