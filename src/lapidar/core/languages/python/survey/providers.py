"""Which distribution provides a module: by the files of what is installed, then by the trees in the cache."""

from __future__ import annotations

import re
import zipfile
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, NamedTuple

from packaging.utils import InvalidWheelFilename, canonicalize_name, parse_wheel_filename

from lapidar.core.cache.history import History
from lapidar.core.cache.store import Cache
from lapidar.core.errors import IndexTrouble, LapidarError
from lapidar.core.records import lockfile
from lapidar.core.records.snapshot import Package

if TYPE_CHECKING:
    from lapidar.core.languages.python.index.indexes import Indexes

__all__ = ["Provider", "Providers", "in_cache", "on_indexes"]

_SMALL_INDEX_BYTES = 200_000
_MODULE = re.compile(r"^(?P<name>[^.]+)(\.py|(\.[\w-]+)*\.so)$")


class Provider(NamedTuple):
    """A distribution: its normalised name and its version."""

    name: str
    version: str


class Providers:
    """Modules and who provides them. Several distributions may share a top-level name (a namespace package), so a
    module is looked for by its longest part that somebody has."""

    def __init__(self) -> None:
        self._modules: dict[str, list[Provider]] = {}

    def add(self, provider: Provider, site_paths: Iterable[str]) -> None:
        """Add a distribution by the paths of its files below the packages' folder."""
        names: set[str] = set()
        for path in site_paths:
            *folders, last = path.split("/")
            matched = _MODULE.match(last)
            if not matched or any(not folder.isidentifier() for folder in folders):
                continue
            parts = folders if matched["name"] == "__init__" else [*folders, matched["name"]]
            names.update(".".join(parts[:end]) for end in range(1, len(parts) + 1))
        for name in names:
            self._modules.setdefault(name, []).append(provider)

    def merge(self, other: Providers) -> None:
        """Add all that others provide."""
        for module, providers in other._modules.items():
            self._modules.setdefault(module, []).extend(providers)

    def of(self, module: str) -> list[Provider]:
        """Who provides a module (``google.cloud.storage``), by the longest part of its name that is there."""
        parts = module.split(".")
        for end in range(len(parts), 0, -1):
            found = self._modules.get(".".join(parts[:end]))
            if found:
                return found
        return []


def in_cache(cache: Cache) -> Providers:
    """Who provides what among all packages that snapshots of the history hold; what was captured last comes last."""
    history = History(cache)
    newest_first = [moment.snapshot for moment in reversed(history.moments())]
    found: dict[str, Package] = {}  # by their trees, each at its newest snapshot
    for snapshot_id in dict.fromkeys([*newest_first, *history.ids()]):
        try:
            snapshot = lockfile.read(history.path(snapshot_id))
        except LapidarError:
            continue
        for package in snapshot.packages:
            found.setdefault(package.tree, package)
    providers = Providers()
    for package in reversed(found.values()):
        try:
            tree = cache.tree(package.tree)
        except LapidarError:
            continue
        paths = (entry.path[5:] for entry in tree if entry.path.startswith("site/"))
        providers.add(Provider(package.name, package.version), paths)
    return providers


def on_indexes(indexes: Indexes, modules: Iterable[str]) -> Providers:
    """Who provides modules on the indexes: distributions whose names are like the module's, and whose newest wheel
    was seen to hold it."""
    from lapidar.core.languages.python.index.remote_wheel import NoRanges

    providers = Providers()
    for module in dict.fromkeys(module.partition(".")[0] for module in modules):
        for name in _likely(module, indexes):
            try:
                wheels = [file for file in indexes.files(name) if file.is_wheel and file.withdrawn is None]
                if not wheels:
                    continue
                newest = max(wheels, key=lambda file: parse_wheel_filename(file.name)[1])
                found = Providers()
                found.add(Provider(name, str(parse_wheel_filename(newest.name)[1])), indexes.members(newest))
            except (IndexTrouble, NoRanges, zipfile.BadZipFile, InvalidWheelFilename, OSError):
                continue
            if found.of(module):
                providers.merge(found)
                break
    return providers


def _likely(module: str, indexes: Indexes) -> Iterator[str]:
    """What a distribution with a module is called, mostly; then what of a small index is like it."""
    plain = canonicalize_name(module)
    yield from (plain, f"python-{plain}", f"py{plain}", f"{plain}-python", plain.removeprefix("py"))
    yield from indexes.near(plain, likeness=0.5, most_bytes=_SMALL_INDEX_BYTES)
