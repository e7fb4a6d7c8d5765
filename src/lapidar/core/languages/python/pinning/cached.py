"""Packages whose tree is in the cache already: pinned or captured before, unpacked or built now."""

from __future__ import annotations

from msgspec import Struct
from packaging.version import Version

from lapidar.core.cache.store import Cache
from lapidar.core.errors import LapidarError, PackageBroken
from lapidar.core.languages.python.standards import layout
from lapidar.core.languages.python.standards.metadata import Metadata
from lapidar.core.records.snapshot import Origin, Package

__all__ = ["CachedPackage", "metadata_of_tree", "of_package"]


class CachedPackage(Struct, frozen=True):
    """A package in the cache, and where it came from."""

    metadata: Metadata
    tree: str
    origin: Origin
    built_with: tuple[str, ...] = ()

    @property
    def version(self) -> Version:
        return Version(self.metadata.version)


def metadata_of_tree(cache: Cache, digest: str) -> Metadata:
    """The core metadata in a package's tree.

    Raises:
        PackageBroken: it has none.
        CacheError: the cache lacks it.
    """
    for entry in cache.tree(digest):
        if layout.is_metadata(entry.path):
            try:
                return Metadata.parse(cache.read(entry).decode("utf-8", "replace"))
            except ValueError as error:
                raise PackageBroken(f"The metadata of tree {digest} is broken", why=str(error)) from error
    raise PackageBroken(f"The tree {digest} has no metadata")


def of_package(cache: Cache, package: Package) -> CachedPackage | None:
    """A package of a lockfile; None where the cache does not have all of it."""
    if not cache.is_whole(package.tree):
        return None
    try:
        metadata = metadata_of_tree(cache, package.tree)
    except (LapidarError, OSError):
        return None
    return CachedPackage(metadata, package.tree, package.origin, package.built_with)
