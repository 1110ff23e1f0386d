"""What the system does with open files and folders."""

from __future__ import annotations

import ctypes
import errno
import fcntl
import os
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

from nostos.core.errors import LockHeld
from nostos.core.files.tree import Owner

NOT_OVER, EXCHANGE = 1, 2  # RENAME_NOREPLACE and RENAMEEXCHANGE, renameat2(2)


def create(name: str, parent: int) -> int:
    """A new file in an open folder, private until it gets its rights."""
    return os.open(name, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600, dir_fd=parent)


def attributes(opened: int) -> tuple[tuple[str, bytes], ...]:
    """The extended attributes of an open file; none where the filesystem has none."""
    try:
        return tuple((name, os.getxattr(opened, name)) for name in sorted(os.listxattr(opened)))
    except OSError:
        return ()


def set_attributes(opened: int, wanted: tuple[tuple[str, bytes], ...]) -> None:
    for name, value in wanted:
        with suppress(OSError):  # some are the system's own to give
            if not _has(opened, name, value):
                os.setxattr(opened, name, value)


def _has(opened: int, name: str, value: bytes) -> bool:
    try:
        return os.getxattr(opened, name) == value
    except OSError:
        return False


def chown(call: Callable[[int, int], None], owner: Owner) -> bool:
    """Give something away; the group alone, where the user cannot be had. Returns whether both could."""
    try:
        call(owner.user, owner.group)
        return True
    except PermissionError:
        with suppress(PermissionError):
            call(-1, owner.group)
        return False


def _renameat2() -> Any:
    with suppress(OSError, AttributeError):
        found = ctypes.CDLL(None, use_errno=True).renameat2
        found.argtypes = (ctypes.c_int, ctypes.c_char_p, ctypes.c_int, ctypes.c_char_p, ctypes.c_uint)
        return found
    return None


_call = _renameat2()


def rename_with(flag: int, parent: int, name: str, other: int, new: str) -> bool:
    """renameat2(2). False: the kernel, the filesystem or the C library cannot."""
    if _call is None:
        return False
    sys.audit("nostos.exchange" if flag == EXCHANGE else "os.rename", name, new, parent, other)
    if _call(parent, os.fsencode(name), other, os.fsencode(new), flag) == 0:
        return True
    number = ctypes.get_errno()
    if number in (errno.EINVAL, errno.ENOSYS, errno.ENOTSUP):
        return False
    raise OSError(number, os.strerror(number), name)


def hold(opened: int, seconds: float) -> None:
    """Lock an open folder until it is closed. Raises Held when another has it for so long."""
    until = time.monotonic() + seconds
    while True:
        try:
            fcntl.flock(opened, fcntl.LOCK_EX | fcntl.LOCK_NB)
            return
        except BlockingIOError:
            if time.monotonic() > until:
                raise LockHeld(_holder(opened)) from None
            time.sleep(0.1)
        except OSError:
            return  # a filesystem without locks


def _holder(opened: int) -> str:
    """Whose lock it is, as the system lists them."""
    inode = os.fstat(opened).st_ino
    with suppress(OSError):
        for line in Path("/proc/locks").read_text().splitlines():
            parts = line.split()
            if parts[1] == "FLOCK" and parts[5].endswith(f":{inode}"):
                return f"process {parts[4]} on this machine"
    return "on this machine"
