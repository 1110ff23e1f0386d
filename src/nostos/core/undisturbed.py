"""Moments in which a wish to stop has to wait: between a rename and its commit, or while something is taken back."""

from __future__ import annotations

import gc
import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType


@contextmanager
def not_collecting() -> Iterator[None]:
    """While it lasts, Python's cyclic garbage collector waits: with a large comparison in memory one pass of it takes
    as long as all of a small transaction, and visitors would wait for it."""
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()


_SIGNALS = tuple(s for s in (getattr(signal, n, None) for n in ("SIGINT", "SIGTERM", "SIGHUP")) if s is not None)


@contextmanager
def undisturbed() -> Iterator[None]:
    """While it lasts, signals that ask this process to stop are put off; they arrive at its end. Outside the main
    thread, where none arrive, it does nothing."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    waiting: list[int] = []

    def later(number: int, _: FrameType | None) -> None:
        waiting.append(number)

    before = {s: signal.signal(s, later) for s in _SIGNALS if signal.getsignal(s) not in (signal.SIG_IGN, None)}
    try:
        yield
    finally:
        for s, handler in before.items():
            signal.signal(s, handler)
        if waiting:
            signal.raise_signal(waiting[0])
