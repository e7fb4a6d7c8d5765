"""Fetch again what the cache lacks of a lockfile: each file from the origin that was recorded, and from no other."""

from __future__ import annotations

from packaging.requirements import Requirement

from lapidar.core.cache.store import Cache
from lapidar.core.declaring.records import Declaration, Index
from lapidar.core.errors import IndexTrouble, LapidarError, MissingFromCache
from lapidar.core.index.indexes import Indexes
from lapidar.core.index.page import File
from lapidar.core.pinning.flow import Pinning
from lapidar.core.pinning.held import Held
from lapidar.core.progress import Progress
from lapidar.core.project import Project
from lapidar.core.snapshot import Package, Snapshot
from lapidar.core.standards.direct_url import without_credentials

__all__ = ["fetch_missing"]


def fetch_missing(
    project: Project, cache: Cache, snapshot: Snapshot, declaration: Declaration, reporter: Progress
) -> list[str]:
    """Fetch the packages of a snapshot that the cache lacks.

    Args:
        declaration: only hosts that it, or the user's configuration, names are asked.

    Returns:
        The names of what was fetched.

    Raises:
        MissingFromCache: something has no origin to fetch it from, or what comes is not what the lockfile says.
        IndexTrouble: an index cannot be used, or is not configured.
    """
    missing = [package for package in snapshot.package if not cache.is_whole(package.tree)]
    if not missing:
        return []
    with Pinning(project, cache, declaration, snapshot, reporter=reporter) as pinning:
        for package in missing:
            held = _fetched(pinning, package)
            if held.tree != package.tree:
                raise MissingFromCache(
                    f"{package.name} {package.version} is not what the lockfile says",
                    why=f"its tree is {held.tree}, and not {package.tree}"
                    + ("; it was built anew, and builds differ" if package.built_with else ""),
                    remedy="Find the cache, or a copy of it, that has the tree. Nothing was placed.",
                )
    return [package.name for package in missing]


def _fetched(pinning: Pinning, package: Package) -> Held:
    origin = package.origin
    if origin.kind == "index" and origin.file and origin.index:
        return pinning.supply.one(_file_of_index(pinning, package))
    if origin.kind == "archive" and origin.url and _is_named(pinning.declaration, origin.url):
        return pinning.supply.one(File(name=origin.file or "", url=origin.url, sha256=origin.sha256 or ""))
    if origin.kind == "archive" and origin.file:
        return pinning.supply.one(_in_any_folder(pinning, package))
    if origin.kind == "version-control" and origin.url and _is_named(pinning.declaration, origin.url):
        part = f"#subdirectory={origin.subdirectory}" if origin.subdirectory else ""
        return pinning.supply.reference(Requirement(f"{package.name} @ git+{origin.url}@{origin.commit}{part}"))
    raise MissingFromCache(
        f"{package.name} {package.version} is not in the cache, and cannot be fetched",
        why="only the captured environment had it"
        if origin.kind == "environment"
        else f"its origin ({origin.url or origin.path or origin.kind}) is not one that the project names",
        remedy="Find the cache, or a copy of it, that has it.",
    )


def _file_of_index(pinning: Pinning, package: Package) -> File:
    origin = package.origin
    for index in pinning.indexes.indexes:
        inside = pinning.project.relative(pinning.project.root / index.address)
        if origin.index in (without_credentials(index.address), inside):
            return _named(_one(pinning, index), package)
    raise IndexTrouble(
        f"{package.name} {package.version} came from {origin.index}, which is not configured here",
        remedy="Name it in [index] or LAPIDAR_INDEX if you trust it. Nothing was fetched.",
    )


def _one(pinning: Pinning, index: Index) -> Indexes:
    """Only this index, for any name: the lockfile says where each file came from."""
    return Indexes([Index(index.name, index.address)], pinning.cache)


def _in_any_folder(pinning: Pinning, package: Package) -> File:
    """What came from a folder of another machine may lie in a folder that is configured here."""
    try:
        return _named(pinning.indexes, package)
    except LapidarError as error:
        raise MissingFromCache(
            f"{package.name} {package.version} is not in the cache, and {package.origin.file} is in no folder here",
            why=error.what,
            remedy="Name the folder that has it in [index].",
        ) from error


def _named(indexes: Indexes, package: Package) -> File:
    for file in indexes.files(package.name):
        if file.name == package.origin.file:
            return File(
                name=file.name, url=file.url, sha256=package.origin.sha256 or "", bytes=file.bytes, index=file.index
            )
    raise IndexTrouble(
        f"{package.origin.file} is not on its index any more",
        remedy="Find the cache, or a copy of it, that has it; or `lapidar pin --renew` to choose anew.",
    )


def _is_named(declaration: Declaration, url: str) -> bool:
    """Whether the project itself names an address, or the host of an index."""
    named = [need.requirement.url or "" for need in declaration.needs]
    named += [override.url or override.file for override in declaration.overrides.values()]
    return any(url in without_credentials(one.removeprefix("git+")) for one in named if one)
