"""What comes from outside: text that others wrote, read within stated limits, and told without doing harm.

The limits are far above what real files have (docs/trust.md lists them); what is beyond one is refused with an error
that names it, before it takes the memory or the time of whoever reads it.
"""

from __future__ import annotations

import errno
import os
import shutil
import stat
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

from lapidar.core.errors import LapidarError, NoSpace

__all__ = [
    "MOST_METADATA_BYTES",
    "MOST_NAME",
    "MOST_NEEDS",
    "MOST_PAGE_BYTES",
    "MOST_TEXT_BYTES",
    "expanded",
    "parsed",
    "read",
    "read_text",
    "require_room",
]

MOST_TEXT_BYTES = 64_000_000  # of a lockfile, a declaration, a source file, a list of files
MOST_PAGE_BYTES = 64_000_000  # of a page of an index, unpacked
MOST_METADATA_BYTES = 8_000_000  # of the metadata of a distribution
MOST_NEEDS = 5_000  # needs of one distribution, or of one project
MOST_NAME = 512  # characters of a name, a version or a range that is parsed


Result = TypeVar("Result")


def read(path: Path | str, most: int = MOST_TEXT_BYTES) -> bytes:
    """The bytes of a regular file; a pipe or a device is never waited for.

    Args:
        most: how many it may have.

    Raises:
        OSError: it cannot be read, is no regular file, or is larger.
    """
    descriptor = os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK | os.O_NOCTTY)
    with open(descriptor, "rb") as stream:
        status = os.fstat(descriptor)
        if stat.S_ISDIR(status.st_mode):
            raise IsADirectoryError(errno.EISDIR, os.strerror(errno.EISDIR), str(path))
        if not stat.S_ISREG(status.st_mode):
            raise OSError(errno.EINVAL, "it is not a regular file", str(path))
        data = stream.read(most + 1) if status.st_size <= most else b""
        if len(data) > most or status.st_size > most:
            raise OSError(errno.EFBIG, f"it is larger than {most:,} bytes", str(path))
        return data


def read_text(path: Path | str, encoding: str = "utf-8", errors: str = "strict", most: int = MOST_TEXT_BYTES) -> str:
    """The text of a regular file, all kinds of line ends made alike.

    Raises:
        OSError: see `read`.
        UnicodeDecodeError: it is not in the encoding.
    """
    return read(path, most).decode(encoding, errors).replace("\r\n", "\n").replace("\r", "\n")


def expanded(path: str | Path) -> Path:
    """A path with ``~`` for the user's home folder.

    Raises:
        LapidarError: nobody knows where that is.
    """
    try:
        return Path(path).expanduser()
    except RuntimeError as error:
        raise LapidarError(
            f"{str(path)!r} stands for a folder in the home of this user, and there is none",
            remedy="Set HOME, or name a folder with --cache or LAPIDAR_CACHE.",
        ) from error


def parsed(parse: Callable[[], Result]) -> Result:
    """What a parser makes of foreign text.

    Raises:
        ValueError: it cannot make anything of it, also where it gives up for other reasons: nested too deeply, a
            number too large, no memory for it.
    """
    try:
        return parse()
    except (RecursionError, MemoryError) as error:
        raise ValueError("it is nested too deeply, or too large") from error
    except (OverflowError, SyntaxError, IndexError, KeyError, TypeError, AttributeError, AssertionError) as error:
        raise ValueError(str(error) or type(error).__name__) from error


def require_room(folder: Path, needed: int, elsewhere: str) -> None:
    """Before anything is written: a small file may announce more than any disk has.

    Args:
        needed: bytes.
        elsewhere: how another folder is named, as a verb phrase.

    Raises:
        NoSpace: the folder's disk has not that much room.
    """
    free = shutil.disk_usage(folder).free
    if needed > free:
        raise NoSpace(
            f"{folder} has no room for it",
            why=f"{needed / 1e9:,.2f} GB are needed, and {free / 1e9:,.2f} GB are free",
            remedy=f"Free some space, or {elsewhere}. Nothing was written.",
        )
