"""Where a package came from, as a lockfile tells it: an address, a way inside the project; nothing of this machine."""

from __future__ import annotations

from pathlib import Path

from lapidar.core.net.addresses import local_path, without_credentials
from lapidar.core.place import Place
from lapidar.core.records.snapshot import Origin

__all__ = ["of_file", "of_folder"]


def of_file(place: Place, file: str, url: str, index: str, *, sha256: str, size: int | None) -> Origin:
    """A file of an index, or one that is named itself.

    Args:
        file: what it is called.
        url: its address, or its path.
        index: the index's address, or its folder; "": none.
        size: in bytes, where that is told.
    """
    folder = local_path(index) if index else None
    if index and folder is None:
        address = without_credentials(url)
        return Origin(kind="index", url=address, index=index, file=file, sha256=sha256, bytes=size)
    inside = place.relative(folder) if folder else None
    if inside:
        return Origin(kind="index", index=inside, file=file, sha256=sha256, bytes=size)
    # A folder outside the project is a place of this machine: what the file is called is all that can be told.
    address = "" if local_path(url) else without_credentials(url)
    return Origin(kind="archive", url=address or None, file=file, sha256=sha256, bytes=size)


def of_folder(place: Place, folder: Path) -> Origin:
    """A folder of sources; one outside the project is only known to have been here."""
    inside = place.relative(folder)
    return Origin(kind="local", path=inside) if inside else Origin(kind="environment")
