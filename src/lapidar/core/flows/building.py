"""Build: what is handed on of a package of one's own, in an environment that is pinned and kept for the next time."""

from __future__ import annotations

from pathlib import Path

from msgspec import Struct

from lapidar.core import atomic
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import reading
from lapidar.core.declaring.own import package_in
from lapidar.core.errors import LapidarError
from lapidar.core.flows import pin
from lapidar.core.pinning.session import PinRequest
from lapidar.core.place import Place
from lapidar.core.progress import Progress
from lapidar.core.records import lockfile

__all__ = ["Built", "build"]


class Built(Struct, frozen=True):
    """What was built.

    Attributes:
        files: the archives.
        built_with: what they were built with, "name version" each.
        lock: the lockfile of what they were built in; None where nothing was needed.
    """

    language: str
    name: str
    files: tuple[Path, ...]
    built_with: tuple[str, ...] = ()
    lock: Path | None = None


def build(place: Place, cache: Cache, folder: Path, to: Path, reporter: Progress) -> Built:
    """Build the archives of a package: twice the same bytes. What they are built with is pinned at first, and then
    taken from the cache; no index is asked again.

    Args:
        folder: of its source: the project's, or one below it.
        to: the folder for the archives.

    Raises:
        DeclarationError: there is no package.
        BuildFailed: it cannot be built; nothing was changed.
    """
    own = package_in(place, folder)
    kept = place.builds / f"{own.language}-{own.name}.lock"
    before = lockfile.read_if_there(kept)
    held = [f"{one.name} {one.version} {one.tree}" for one in before.packages] if before else []
    if to.exists() and not to.is_dir():
        raise LapidarError(f"{to} is no folder", remedy="Name one with --to.")
    request = PinRequest(
        place, cache, reading.read(place), lockfile.read_if_there(place.lockfile) or before, reporter=reporter
    )
    with pin.opened(request, only=own.language) as pinning:
        to.mkdir(parents=True, exist_ok=True)
        files, snapshot = pinning.of(own.language).archives(folder, to, held)
    if snapshot is None:
        return Built(own.language, own.name, tuple(files))
    place.make_own_folder()
    kept.parent.mkdir(exist_ok=True)
    atomic.write_file(kept, lockfile.render(snapshot).encode("utf-8"))
    told = tuple(f"{one.name} {one.version}" for one in snapshot.packages)
    return Built(own.language, own.name, tuple(files), told, kept)
