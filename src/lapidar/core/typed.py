"""Data into typed records, undisturbed: the library that does it crashes where Ctrl-C comes while it looks at a type
for the first time, so that the signal is kept back until it is done."""

from __future__ import annotations

import signal
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, TypeVar

import msgspec

__all__ = ["convert", "decode"]

Record = TypeVar("Record")


@contextmanager
def _undisturbed() -> Iterator[None]:
    before = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT})
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


def convert(data: Any, kind: type[Record]) -> Record:
    """Plain data as a record.

    Raises:
        msgspec.ValidationError: it does not fit.
    """
    with _undisturbed():
        return msgspec.convert(data, kind)


def decode(data: bytes | str, kind: type[Record]) -> Record:
    """JSON as a record.

    Raises:
        msgspec.MsgspecError: it is no JSON, or does not fit.
    """
    with _undisturbed():
        return msgspec.json.decode(data, type=kind)
