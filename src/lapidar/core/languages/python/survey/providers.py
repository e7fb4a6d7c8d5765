"""Which distribution provides a module: by the files of what is installed, then by the trees in the cache."""

from __future__ import annotations

import difflib
import re
import zipfile
from collections.abc import Collection, Iterable, Iterator
from functools import cache
from importlib import resources
from typing import TYPE_CHECKING

import msgspec
from packaging.utils import InvalidWheelFilename, canonicalize_name, parse_wheel_filename

from lapidar.core import decoding, sealed
from lapidar.core.cache.history import History
from lapidar.core.cache.store import Cache
from lapidar.core.errors import IndexTrouble, LapidarError
from lapidar.core.languages.surveying import Provider
from lapidar.core.records import lockfile
from lapidar.core.records.snapshot import Package

if TYPE_CHECKING:
    from lapidar.core.languages.python.index.indexes import Indexes

__all__ = ["Providers", "in_cache", "of_packages", "on_indexes"]

_MODULE = re.compile(r"^(?P<name>[^.]+)(\.py|(\.[\w-]+)*\.so)$")


class Providers:
    """Modules and who provides them. Several distributions may share a top-level name (a namespace package), so a
    module is looked for by its longest part that somebody has."""

    def __init__(self) -> None:
        self._modules: dict[str, list[Provider]] = {}

    def add(self, provider: Provider, site_paths: Iterable[str]) -> None:
        """Add a distribution by the paths of its files below the packages' folder."""
        self.add_names(provider, modules_of(site_paths))

    def add_names(self, provider: Provider, modules: Iterable[str]) -> None:
        """Add a distribution by the modules that tell it from others."""
        for name in modules:
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


def modules_of(site_paths: Iterable[str]) -> list[str]:
    """The modules by which a distribution is told from others: its top-level ones; of a folder without an
    ``__init__`` of its own, which may be shared (a namespace package), what lies in it, as deep as that goes."""
    modules, packages = set(), set()
    for path in site_paths:
        *folders, last = path.split("/")
        matched = _MODULE.match(last)
        if not matched or any(not folder.isidentifier() for folder in folders):
            continue
        if matched["name"] == "__init__":
            packages.add(".".join(folders))
        else:
            modules.add(".".join([*folders, matched["name"]]))
    found = set()
    for name in modules | packages:
        parts = name.split(".")
        found.add(next((top for end in range(1, len(parts)) if (top := ".".join(parts[:end])) in packages), name))
        # A shared folder is also imported by its own name.
        found.update(".".join(parts[:end]) for end in range(1, len(parts)) if not _below(packages, parts[:end]))
    return sorted(found)


def _below(packages: set[str], parts: list[str]) -> bool:
    return any(".".join(parts[:end]) in packages for end in range(1, len(parts) + 1))


class _Known:
    """What the trees of packages provide, as it was read of them before; by their digests."""

    def __init__(self, cache: Cache) -> None:
        self._cache = cache
        self._path = cache.short_cuts / "modules"
        self._is_new = False
        self._known: dict[str, list[str]] = {}
        try:
            self._known = decoding.from_json(sealed.read(self._path) or b"{}", dict[str, list[str]])
        except (msgspec.MsgspecError, UnicodeDecodeError):
            pass

    def of(self, tree: str) -> list[str] | None:
        """The modules of a tree; None where the cache has lost it."""
        if tree not in self._known:
            try:
                entries = self._cache.tree(tree)
            except LapidarError:
                return None
            self._known[tree] = modules_of(entry.path[5:] for entry in entries if entry.path.startswith("site/"))
            self._is_new = True
        return self._known[tree]

    def keep(self) -> None:
        """Remember it for the next time."""
        if self._is_new:
            sealed.keep(self._path, lambda: msgspec.json.encode(self._known))


def of_packages(cache: Cache, packages: Iterable[Package]) -> Providers:
    """Who provides what among pinned packages. One whose files are lost goes by its own name, as most do."""
    known, providers = _Known(cache), Providers()
    for package in packages:
        names = known.of(package.tree) if package.tree else None
        providers.add_names(Provider(package.name, package.version), names or [package.name.replace("-", "_")])
    known.keep()
    return providers


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
    known, providers = _Known(cache), Providers()
    for package in reversed(found.values()):
        providers.add_names(Provider(package.name, package.version), known.of(package.tree) or ())
    known.keep()
    return providers


def on_indexes(indexes: Indexes, modules: Iterable[str], declared: Collection[str] = ()) -> Providers:
    """Who provides modules on the indexes: distributions whose names are like the module's, or that are known for it,
    and whose newest wheel was seen to hold it. Where an index does not let one look into a wheel, what is known is
    taken.

    Args:
        declared: distributions that the project declares; these are looked into first, whatever they are called.
    """
    from lapidar.core.languages.python.index.remote_wheel import NoRanges

    providers = Providers()
    tops = list(dict.fromkeys(module.partition(".")[0] for module in modules))
    indexes.ask_ahead(name for module in tops for name in _called(module))
    for module in tops:
        known = _named_otherwise().get(module, ())
        for name in dict.fromkeys([*declared, *_likely(module, indexes)]):
            try:
                wheels = [file for file in indexes.files(name) if file.is_wheel and file.withdrawn is None]
                if not wheels:
                    continue
                newest = max(wheels, key=lambda file: parse_wheel_filename(file.name)[1])
                provider, found = Provider(name, str(parse_wheel_filename(newest.name)[1])), Providers()
                try:
                    found.add(provider, indexes.members(newest))
                except NoRanges:
                    found.add_names(provider, [module] if name in known else ())
            except (IndexTrouble, zipfile.BadZipFile, InvalidWheelFilename, OSError):
                continue
            if found.of(module):
                providers.merge(found)
                break
    return providers


def _called(module: str) -> list[str]:
    """What a distribution with a module is called, mostly."""
    plain = canonicalize_name(module)
    usual = (plain, f"python-{plain}", f"py{plain}", f"{plain}-python", plain.removeprefix("py"))
    return [*_named_otherwise().get(module, ()), *usual]


def _likely(module: str, indexes: Indexes) -> Iterator[str]:
    """What it may be called; then what of a small index is like it."""
    yield from _called(module)
    plain = canonicalize_name(module)
    yield from difflib.get_close_matches(plain, indexes.names(plain), cutoff=0.5)


@cache
def _named_otherwise() -> dict[str, tuple[str, ...]]:
    """By modules whose distribution has another name, the distributions that are known to have them."""
    text = resources.files(__package__).joinpath("named_otherwise.txt").read_text("utf-8")
    lines = (line.split() for line in text.splitlines() if not line.startswith("#"))
    return {module: tuple(names) for module, *names in lines}
