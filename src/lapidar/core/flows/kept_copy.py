"""A copy that is kept of what goes by on its way to or from a run."""

from __future__ import annotations

import errno
import os
from pathlib import Path

from lapidar.core.errors import from_os_error

__all__ = ["KeptCopy"]


class KeptCopy:
    """A file that pieces are added to while it is open, as a context. Where one cannot be kept (a full disk) the others
    still go by, and that is told at the end.

    Args:
        into: where it lies.
        doing: what is done, as a verb phrase, for the errors.

    Raises:
        LapidarError: the file cannot be made.
    """

    def __init__(self, into: Path, doing: str) -> None:
        self._doing = doing
        self._failed: OSError | None = None
        try:
            self._file = into.open("wb", buffering=0)
        except OSError as error:
            raise from_os_error(error, doing) from error

    def add(self, piece: bytes) -> None:
        """Add a piece, unless one could not be kept before."""
        if self._failed is not None:
            return
        try:
            if self._file.write(piece) != len(piece):
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), self._file.name)
        except OSError as error:
            self._failed = error

    def __enter__(self) -> KeptCopy:
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()

    def require_whole(self) -> None:
        """Raises: LapidarError: not all could be kept."""
        if self._failed is not None:
            raise from_os_error(self._failed, self._doing) from self._failed
