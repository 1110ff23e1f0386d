"""A real ssh server on this machine, and an account of its own: what Nostos sees as another machine."""

from __future__ import annotations

import atexit
import getpass
import os
import shutil
import subprocess
import tempfile
from pathlib import Path

from nostos.demo.ssh_server import SshServer, missing

USER = "nostos-far"
HOST, OTHER = "far.example", "other.example"  # two names of it
__all__ = ["HOST", "OTHER", "Far", "missing"]


class Far:
    """The server, whose account is another than the tests' own, where they may make one."""

    def __init__(self) -> None:
        self.user = getpass.getuser()
        if os.geteuid() == 0:
            self.user = USER
            if subprocess.run(["id", USER], capture_output=True).returncode:
                subprocess.run(["useradd", "--system", "--create-home", "--shell", "/bin/sh", "--password", "*", USER],
                               check=True)
        self.folder = Path(tempfile.mkdtemp(prefix="nostos-sshd-"))
        atexit.register(shutil.rmtree, self.folder, ignore_errors=True)
        server = SshServer(self.folder, self.user, (HOST, OTHER))
        atexit.register(server.close)
        self.port, self.command = server.port, server.command

    def place(self) -> Path:
        """A new folder of the account's."""
        made = Path(tempfile.mkdtemp(prefix="nostos-far-"))
        made.chmod(0o755)
        self.give(made)
        return made

    def give(self, folder: Path) -> None:
        """Let all in a folder belong to the account."""
        if os.geteuid() == 0:
            subprocess.run(["chown", "-R", f"{self.user}:", str(folder)], check=True)
