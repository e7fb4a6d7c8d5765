"""A blob as it comes from a host, as one stream: where the connection is cut, it is gone on with from there."""

from __future__ import annotations

import io
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from typing import IO, TYPE_CHECKING

from lapidar.core.errors import StoreTrouble
from lapidar.core.net.http import Purpose
from lapidar.core.parcels.form import Descriptor

if TYPE_CHECKING:
    import urllib3

__all__ = ["PURPOSE", "Opener", "download", "pieces_of"]

PURPOSE = Purpose(
    "store", "Try the same again later: it goes on from what is there. Nothing was changed here.", StoreTrouble
)
_TRIES = 5
_PAUSE_SECONDS = 0.3
_PIECE_BYTES = 1 << 16

Opener = Callable[[ExitStack, Descriptor, int], Iterator[bytes]]
"""Opens the bytes of a blob from a place on; what is to be closed goes onto the stack."""


def download(called: str, one: Descriptor, opener: Opener) -> IO[bytes]:
    """The bytes of a blob, asked for again from where they broke off.

    Args:
        called: who has it, for people.

    Raises:
        StoreTrouble: it breaks off again and again, when it is read.
    """
    return io.BufferedReader(_Download(called, one, opener), 1 << 18)


def pieces_of(response: urllib3.BaseHTTPResponse, at: int) -> Iterator[bytes]:
    """What an answer holds from a place on; where the host knows of no ranges, what was had is passed over."""
    left = at if response.status == 200 else 0
    for piece in response.stream(_PIECE_BYTES, decode_content=False):
        if left < len(piece):
            yield piece[left:]
        left = max(0, left - len(piece))


class _Download(io.RawIOBase):
    def __init__(self, called: str, one: Descriptor, opener: Opener) -> None:
        self._called, self._one, self._opener = called, one, opener
        self._at = 0
        self._left = b""
        self._stack = ExitStack()
        self._pieces = opener(self._stack, one, 0)

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        if not self._left:
            self._left = self._next()
        size = min(len(buffer), len(self._left))
        buffer[:size] = self._left[:size]
        self._left = self._left[size:]
        self._at += size
        return size

    def _next(self) -> bytes:
        from urllib3.exceptions import HTTPError

        why = ""
        for failed in range(_TRIES):
            if failed:
                time.sleep(_PAUSE_SECONDS * failed)
                self._stack.close()
                self._pieces = self._opener(self._stack, self._one, self._at)
            try:
                piece = next(self._pieces, b"")
                if piece or self._at >= self._one.size:
                    return piece
                why = "it ends too early"
            except (HTTPError, OSError) as error:
                why = str(error)
        raise StoreTrouble(
            f"{self._called} breaks off in the middle of a blob",
            why=f"{self._one.digest}, after {self._at:,} of {self._one.size:,} bytes, {_TRIES} times: {why}",
            remedy=PURPOSE.remedy,
        )

    def close(self) -> None:
        self._stack.close()
        super().close()
