"""Tar archives in one canonical form: the same files give the same bytes, whoever writes them.

The form is that of GNU tar with its long names, which every reader of tar knows, those of small shells included; no
owner, one time for all, no entries for folders. Standard: POSIX.1-1988 ustar headers, GNU extensions `L` and `K`.
"""

from __future__ import annotations

from lapidar.core.cache.store import FILE_TIME_SECONDS

__all__ = ["BLOCK", "END", "FILE", "FOLDER", "HARD_LINK", "LINK", "header", "padding"]

BLOCK = 512
END = bytes(2 * BLOCK)
FILE, HARD_LINK, LINK, FOLDER = b"0", b"1", b"2", b"5"
_LONG_NAME, _LONG_LINK = b"L", b"K"
_LONGEST = 100
_MOST_OCTAL = 8**11
_MAGIC = b"ustar  \0"
_TIME = b"%011o\0" % FILE_TIME_SECONDS
_OWNER = b"0000000\0"


def header(path: str, size: int, mode: int, kind: bytes = FILE, target: str = "") -> bytes:
    """What stands before the bytes of an entry.

    Args:
        path: relative, as the reader is to make it.
        size: of its bytes; 0 for links and folders.
        mode: the bits of its permissions.
        target: of a symbolic link, what it says; of a hard link, the path of an entry before it.
    """
    name, link = path.encode("utf-8", "surrogateescape"), target.encode("utf-8", "surrogateescape")
    before = b""
    if len(link) > _LONGEST:
        before += _long(_LONG_LINK, link)
    if len(name) > _LONGEST:
        before += _long(_LONG_NAME, name)
    return before + _block(name[:_LONGEST], size, mode, kind, link[:_LONGEST])


def padding(size: int) -> bytes:
    """What fills the last block of an entry's bytes."""
    return bytes(-size % BLOCK)


def _long(kind: bytes, text: bytes) -> bytes:
    data = text + b"\0"
    return _block(b"././@LongLink", len(data), 0o644, kind, b"") + data + padding(len(data))


def _block(name: bytes, size: int, mode: int, kind: bytes, link: bytes) -> bytes:
    number = b"%011o\0" % size if size < _MOST_OCTAL else b"\x80" + size.to_bytes(11, "big")
    start = name.ljust(100, b"\0") + b"%07o\0" % mode + _OWNER + _OWNER + number + _TIME
    rest = kind + link.ljust(100, b"\0") + _MAGIC
    total = sum(start) + sum(rest) + 8 * 32  # the field of the sum itself counts as blanks
    return (start + b"%06o\0 " % total + rest).ljust(BLOCK, b"\0")
