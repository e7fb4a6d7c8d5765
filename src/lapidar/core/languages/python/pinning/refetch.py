"""Fetch again what the cache lacks of a lockfile: each file from the origin that was recorded, and from no other."""

from __future__ import annotations

from contextlib import ExitStack
from urllib.parse import urldefrag

from msgspec.structs import replace

from lapidar.core.errors import IndexTrouble, LapidarError, MissingFromCache
from lapidar.core.languages import source_trees
from lapidar.core.languages.python.index.indexes import Indexes
from lapidar.core.languages.python.index.page import File
from lapidar.core.languages.python.pinning.cached import CachedPackage
from lapidar.core.languages.python.pinning.session import PythonPinning, opened
from lapidar.core.languages.python.pinning.supply import Supply
from lapidar.core.languages.python.requirements import requirement_of
from lapidar.core.languages.python.standards import direct_url
from lapidar.core.net.addresses import without_credentials
from lapidar.core.pinning.session import PinRequest
from lapidar.core.records.declaration import Declaration, Index
from lapidar.core.records.snapshot import Package, Snapshot

__all__ = ["fetch_missing"]


def fetch_missing(request: PinRequest, snapshot: Snapshot) -> list[str]:
    """Fetch the packages of a snapshot that the cache lacks.

    Args:
        declaration: only hosts that it, or the user's configuration, names are asked.

    Returns:
        The names of what was fetched.

    Raises:
        MissingFromCache: something has no origin to fetch it from, or what comes is not what the lockfile says.
        IndexTrouble: an index cannot be used, or is not configured.
    """
    missing = [
        package
        for package in snapshot.packages
        if package.language == "python" and not request.cache.is_whole(package.tree)
    ]
    if not missing:
        return []
    with opened(request) as pinning, ExitStack() as stack:
        finder = _Finder(pinning, stack)
        found = [(package, finder.find(package)) for package in missing]
        files = [(package, one) for package, one in found if isinstance(one, File)]
        fetched = zip(files, pinning.supply.many([file for _, file in files]), strict=True)
        chosen = [(package, held) for (package, _), held in fetched]
        chosen += [(package, one) for package, one in found if isinstance(one, CachedPackage)]
    for package, held in chosen:
        _require_same(package, held)
    return [package.name for package in missing]


def _require_same(package: Package, held: CachedPackage) -> None:
    if held.tree != package.tree:
        raise MissingFromCache(
            f"{package.name} {package.version} is not what the lockfile says",
            why=f"its tree is {held.tree}, and not {package.tree}"
            + ("; it was built anew, and builds differ" if package.built_with else ""),
            remedy="Find the cache, or a copy of it, that has the tree. Nothing was placed.",
        )


class _Finder:
    """Finds where packages are fetched from.

    Args:
        stack: closes the indexes that are opened.
    """

    def __init__(self, pinning: PythonPinning, stack: ExitStack) -> None:
        self._pinning = pinning
        self._stack = stack
        self._alone: dict[str, Indexes] = {}

    def find(self, package: Package) -> File | CachedPackage:
        """The file to fetch, or, for what is not a file, what was brought."""
        origin = package.origin
        named = origin.url is not None and _is_named(self._pinning.request.declaration, origin.url)
        if origin.kind == "index" and origin.file and origin.index:
            return self._of_index(package)
        if origin.kind == "archive" and named:
            return File(name=origin.file or "", url=origin.url or "", sha256=origin.sha256 or "")
        if origin.kind == "archive" and origin.file:
            return _in_any_folder(self._pinning, package)
        if origin.kind == "version-control" and named:
            supply: Supply = self._pinning.supply
            return supply.named(package.name, direct_url.reference(origin))
        raise MissingFromCache(
            f"{package.name} {package.version} is not in the cache, and cannot be fetched",
            why="only the captured environment had it"
            if origin.kind == "environment"
            else f"its origin ({origin.url or origin.path or origin.kind}) is not one that the project names",
            remedy="Find the cache, or a copy of it, that has it.",
        )

    def _of_index(self, package: Package) -> File:
        origin = package.origin
        for index in self._pinning.indexes.indexes:
            inside = self._pinning.request.place.relative(self._pinning.request.place.root / index.address)
            if origin.index in (without_credentials(index.address), inside):
                return _named(self._only(index), package)
        raise IndexTrouble(
            f"{package.name} {package.version} came from {origin.index}, which is not configured here",
            remedy="Name it in [index] or LAPIDAR_INDEX if you trust it. Nothing was fetched.",
        )

    def _only(self, index: Index) -> Indexes:
        """One index, for any name: the lockfile says where each file came from."""
        if index.address not in self._alone:
            alone = Indexes([Index(index.name, index.address)], self._pinning.request.cache)
            self._alone[index.address] = self._stack.enter_context(alone)
        return self._alone[index.address]


def _in_any_folder(pinning: PythonPinning, package: Package) -> File:
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
            return replace(file, sha256=package.origin.sha256 or "")
    raise IndexTrouble(
        f"{package.origin.file} is not on its index any more",
        remedy="Find the cache, or a copy of it, that has it; or `lapidar pin --renew` to choose anew.",
    )


def _is_named(declaration: Declaration, url: str) -> bool:
    """Whether the project itself names an address, letter by letter: one that only begins like it is another's."""
    named = [requirement_of(need).url or "" for need in declaration.needs_of("python")]
    named += [override.url or override.file for override in declaration.overrides.values()]
    return any(url in _addresses(one) for one in named if one)


def _addresses(reference: str) -> set[str]:
    """What a reference of a declaration may stand for: the file at it, or a repository."""
    found = {without_credentials(reference), without_credentials(urldefrag(reference)[0])}
    try:
        checkout = source_trees.parse_version_control(reference if reference.startswith("git+") else f"git+{reference}")
    except (LapidarError, ValueError):
        checkout = None
    return found | ({checkout.shown} if checkout else set())
