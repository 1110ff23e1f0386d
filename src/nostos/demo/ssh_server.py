"""A private ssh server on this machine, with keys of its own: what the story takes for another machine."""

from __future__ import annotations

import getpass
import os
import shutil
import socket
import subprocess
import time
from contextlib import suppress
from pathlib import Path

from nostos.core.errors import SiteError
from nostos.core.hosts.helper import free_port

HOST = "ridge-host"
_KEYS = ("host", "user")


def missing() -> str:
    """What is missing for it; empty where nothing is."""
    return "" if _server() and shutil.which("ssh") and shutil.which("ssh-keygen") else "OpenSSH (openssh-server)"


def _server() -> str | None:
    return shutil.which("sshd", path=f"{os.environ.get('PATH', os.defpath)}:/usr/sbin:/usr/local/sbin")


class SshServer:
    """The server, once it answers. folder: an empty one that others may look into. user: who logs in. names: the hosts
    that this machine is called. command: what starts ssh so that it knows it."""

    def __init__(self, folder: Path, user: str = "", names: tuple[str, ...] = (HOST,)) -> None:
        server = _server()
        if missing() or server is None:
            raise SiteError(f"{missing()} is not installed here.", next_step="Install it, or leave --over-ssh out.")
        self.folder, self.user = folder, user or getpass.getuser()
        folder.chmod(0o755)
        for name in _KEYS:
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(folder / name)], check=True)  # noqa: S603, S607
        keys = folder / "keys"
        shutil.copy(folder / "user.pub", keys)
        keys.chmod(0o644)
        self.port = free_port()
        if os.geteuid() == 0:
            Path("/run/sshd").mkdir(mode=0o755, exist_ok=True)  # where it leaves its rights behind
        (folder / "sshd.conf").write_text(
            f"Port {self.port}\nListenAddress 127.0.0.1\nHostKey {folder}/host\nAuthorizedKeysFile {keys}\n"
            f"PidFile {folder}/pid\nStrictModes no\nUsePAM no\nPasswordAuthentication no\n"
            f"KbdInteractiveAuthentication no\nPermitRootLogin prohibit-password\nAllowUsers {self.user}\n"
            "MaxSessions 100\nMaxStartups 100\n")
        with (folder / "log").open("wb") as log:
            self._process = subprocess.Popen(  # noqa: S603
                [server, "-D", "-e", "-f", str(folder / "sshd.conf")], stderr=log)
        known = " ".join((folder / "host.pub").read_text().split()[:2])
        (folder / "known").write_text(f"[127.0.0.1]:{self.port} {known}\n")
        (folder / "config").write_text(
            f"Host {' '.join(names)}\n  HostName 127.0.0.1\n  Port {self.port}\n  User {self.user}\n"
            f"  IdentityFile {folder}/user\n  IdentitiesOnly yes\n  UserKnownHostsFile {folder}/known\n"
            "  StrictHostKeyChecking yes\n  BatchMode yes\n")
        self.command = f"ssh -F {folder}/config"
        self._wait()

    def _wait(self) -> None:
        for _ in range(200):
            with suppress(OSError), socket.create_connection(("127.0.0.1", self.port), 1):
                return
            if self._process.poll() is not None:
                break
            time.sleep(0.05)
        self.close()
        lines = (self.folder / "log").read_text(errors="replace").strip().splitlines()
        raise SiteError(f"The ssh server does not start: {lines[-1] if lines else 'it says nothing'}.",
                        next_step="Leave --over-ssh out.")

    def close(self) -> None:
        if self._process.poll() is None:
            self._process.terminate()
            self._process.wait()
