"""Decode into records. What the library must know of a type it works out at the first use of it, and two threads that
do so at once end in a segmentation fault (7 of 30 runs of 8 threads with msgspec 0.22): so that is done once, under a
lock."""

from __future__ import annotations

import threading
from typing import Any, TypeVar

import msgspec

__all__ = ["convert", "from_json"]

T = TypeVar("T")

_lock = threading.Lock()
_decoders: dict[Any, msgspec.json.Decoder[Any]] = {}


def _decoder(kind: Any) -> msgspec.json.Decoder[Any]:
    found = _decoders.get(kind)
    if found is None:
        with _lock:
            found = _decoders.setdefault(kind, _decoders.get(kind) or msgspec.json.Decoder(kind))
    return found


def convert(value: Any, kind: type[T]) -> T:
    """Plain values as a record.

    Raises:
        msgspec.ValidationError: they are not what it must be; says where.
    """
    _decoder(kind)
    return msgspec.convert(value, kind)


def from_json(data: bytes | str, kind: type[T]) -> T:
    """JSON as a record.

    Raises:
        msgspec.DecodeError: it is no JSON, or not what it must be.
    """
    decoded: T = _decoder(kind).decode(data)
    return decoded
