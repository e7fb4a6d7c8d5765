"""Waiting that a signal ends for sure.

A handler of ours runs between two instructions of the interpreter. A signal that comes after the last of these and
before the system call that waits is noticed only when that call returns, which may be in hours. So another thread hears
of each signal too, through the descriptor that the interpreter offers for that, and gives the waiting one a nudge.
"""

from __future__ import annotations

import os
import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager

__all__ = ["interruptible"]

_NUDGE = signal.SIGURG  # which nobody heeds
_AFTER = (0.05, 0.2, 1.0)  # seconds


@contextmanager
def interruptible() -> Iterator[None]:
    """While it lasts, a signal ends a call that waits in the main thread, whenever it comes. In another thread, which
    hears of no signal, nothing is done."""
    main = threading.main_thread()
    if threading.current_thread() is not main or main.ident is None:
        yield
        return
    reading, writing = os.pipe()
    os.set_blocking(writing, False)
    handler = signal.signal(_NUDGE, lambda *_: None)
    before = signal.set_wakeup_fd(writing, warn_on_full_buffer=False)
    ended = threading.Event()
    watcher = threading.Thread(target=_watch, args=(reading, main.ident, ended), daemon=True)
    watcher.start()
    try:
        yield
    finally:
        ended.set()
        signal.set_wakeup_fd(before)
        os.close(writing)
        watcher.join()
        os.close(reading)
        signal.signal(_NUDGE, handler or signal.SIG_DFL)


def _watch(reading: int, main: int, ended: threading.Event) -> None:
    while told := os.read(reading, 256):
        if set(told) == {_NUDGE}:
            continue
        for seconds in _AFTER:
            if ended.wait(seconds):
                return
            signal.pthread_kill(main, _NUDGE)
