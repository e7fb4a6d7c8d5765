"""Which files the operating system's package of a file has: read from the package database's own files.

Debian's dpkg keeps one list of absolute paths for each package in ``/var/lib/dpkg/info/*.list``. Debian's
Python packages carry no RECORD, so these lists are what is known of them.
"""

from __future__ import annotations

import functools
from pathlib import Path

__all__ = ["files_beside"]

_DATABASE = Path("/var/lib/dpkg/info")


@functools.cache
def _lists_by_metadata(database: Path) -> dict[str, list[str]]:
    """For each folder or file of Python metadata, all paths of the system package that has it."""
    found: dict[str, list[str]] = {}
    for path in sorted(database.glob("*.list")):
        try:
            data = path.read_bytes()
        except OSError:
            continue
        if b"-packages/" not in data:
            continue
        lines = data.decode("utf-8", "surrogateescape").splitlines()
        for line in lines:
            if line.endswith((".egg-info", ".dist-info")):
                found[line] = lines
    return found


def files_beside(metadata: str, database: Path = _DATABASE) -> list[str] | None:
    """All files of the system package that owns a distribution's metadata; None where nobody owns it."""
    if not metadata.startswith("/usr/lib/"):
        return None  # nothing else is the operating system's; it saves reading all lists
    lines = _lists_by_metadata(database).get(metadata)
    return None if lines is None else [line for line in lines if Path(line).is_file()]
