"""Bring R packages into the cache: fetched, verified, built in the order of their needs."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from functools import cached_property
from pathlib import Path
from urllib.parse import urldefrag, urlsplit

from msgspec import Struct, field
from msgspec.structs import replace

from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.store import Cache
from lapidar.core.errors import DeclarationError, IndexTrouble, PackageBroken
from lapidar.core.languages import live, origins, source_trees
from lapidar.core.languages.r import description
from lapidar.core.languages.r.building import build
from lapidar.core.languages.r.building.build import Builder, Room
from lapidar.core.languages.r.description import Description
from lapidar.core.languages.r.graph import description_of_tree
from lapidar.core.languages.r.index.repositories import Offer, Repositories, description_in
from lapidar.core.languages.r.pinning import workplace
from lapidar.core.languages.r.pinning.candidates import CachedPackage, Shipped
from lapidar.core.languages.r.pinning.shipped import ShippedPackages
from lapidar.core.languages.r.requirements import BASE
from lapidar.core.net.addresses import local_path, without_credentials
from lapidar.core.pinning.session import PinRequest
from lapidar.core.records.declaration import Override
from lapidar.core.records.snapshot import Origin, Package, Platform, Runtime

__all__ = ["Named", "Supply", "held_of"]


class Named(Struct, frozen=True):
    """A source that a project names itself: a file, a folder, a commit.

    Attributes:
        digest: what its files are, so that it is built again where one changed.
    """

    description: Description
    origin: Origin
    digest: str
    source: Path


def held_of(cache: Cache, package: Package) -> CachedPackage | None:
    """A package of a lockfile; None where the cache does not have all of it."""
    if not cache.is_whole(package.tree):
        return None
    try:
        found = description_of_tree(cache, package.tree)
    except (PackageBroken, OSError, ValueError):
        return None
    return CachedPackage(found, package.tree, package.origin, package.built_with)


class Supply(Struct, dict=True):
    """Brings packages into the cache.

    Attributes:
        request: builds run with the system libraries of its lockfile.
    """

    request: PinRequest
    repositories: Repositories
    runtime: Runtime
    platform: Platform
    _stack: ExitStack = field(default_factory=ExitStack)
    _builder: Builder | None = None

    @cached_property
    def shipped(self) -> ShippedPackages:
        """What comes with the runtime."""
        return ShippedPackages(self.request, self.runtime.version)

    def __enter__(self) -> Supply:
        return self

    def __exit__(self, *_: object) -> None:
        self._stack.close()

    # ---- many

    def bring(
        self, chosen: Mapping[str, CachedPackage | Offer | Named], described: Mapping[str, Description]
    ) -> dict[str, CachedPackage]:
        """Bring what was chosen, each after what it needs.

        Args:
            described: what each says of itself.

        Raises:
            IndexTrouble, PackageBroken, BuildFailed: nothing has changed for a reader.
        """
        done: dict[str, CachedPackage] = {}
        for name in _in_order(described):
            one = chosen[name]
            needed = _closure(name, described)
            trees = {other: done[other].tree for other in sorted(needed)}
            if isinstance(one, Shipped):
                done[name] = self.shipped.stowed(name)
            else:
                done[name] = one if isinstance(one, CachedPackage) else self._made(name, one, trees, done)
        return done

    def _made(
        self, name: str, one: Offer | Named, trees: Mapping[str, str], done: Mapping[str, CachedPackage]
    ) -> CachedPackage:
        if isinstance(one, Named):
            names = source_trees.files_of(one.source)
            built = self._built(one.source, one.description, one.origin, one.digest, trees, done)
            return self._with_live(built, names)
        with self._fetched(one) as (path, digest):
            self._require_digest(name, one, path, digest)
            origin = origins.of_file(
                self.request.place, one.file, one.url, one.index, sha256=digest, size=path.stat().st_size
            )
            known = self._known(digest, origin, trees)
            if known:
                return known
            with self.request.cache.work_folder() as work:
                source = source_trees.unpacked(path, one.file, work.path / "source")
                found = _described(source, one.file)
                return self._built(source, found, origin, digest, trees, done)

    def _with_live(self, built: CachedPackage, names: Sequence[str]) -> CachedPackage:
        """Of what is in inst/ an installed package has the files as they are; all else is made of its sources."""
        origin = built.origin
        if origin.sources is None or origin.path is None:
            return built
        told = live.found(self.request.cache.tree(built.tree), self.request.place.root / origin.path, names)
        folders = ("inst",) if "inst" in told.folders else None
        return replace(built, origin=replace(origin, live=folders, made=None))

    @contextmanager
    def _fetched(self, offer: Offer) -> Iterator[tuple[Path, str]]:
        fetched = self.repositories.fetched(offer)
        with fetched as path:
            yield path, fetched.sha256

    def _require_digest(self, name: str, offer: Offer, path: Path, sha256: str) -> None:
        """Raises: IndexTrouble: a file is not what the repository, or the project, says."""
        allowed = self.request.declaration.sha256_of("r").get(name)
        if allowed and sha256 not in allowed:
            raise IndexTrouble(
                f"{offer.file} has none of the digests that the project allows",
                why=f"its sha256 is {sha256}",
                remedy="Do not use it, or correct [needs.r] sha256 if you know that it is right.",
            )
        if offer.md5:
            with open(path, "rb") as stream:
                md5 = hashlib.file_digest(stream, lambda: hashlib.md5(usedforsecurity=False)).hexdigest()
            if md5 != offer.md5.lower():
                raise IndexTrouble(
                    f"{offer.file} is not what its repository promises, and was thrown away",
                    why=f"promised md5 {offer.md5}, got {md5}",
                    remedy="Try again; if it stays so, the file was changed on its way or on the host: do not use it.",
                )

    def _known(self, digest: str, origin: Origin, trees: Mapping[str, str]) -> CachedPackage | None:
        made = self.request.cache.made(build.key(digest, self.runtime, list(trees.values())))
        if made is None:
            return None
        return CachedPackage(description_of_tree(self.request.cache, made.tree), made.tree, origin, made.notes)

    def _built(
        self,
        source: Path,
        found: Description,
        origin: Origin,
        digest: str,
        trees: Mapping[str, str],
        done: Mapping[str, CachedPackage],
    ) -> CachedPackage:
        known = self._known(digest, origin, trees)
        if known:
            return known
        tree = self._the_builder().build(source, found, trees, self.request.reporter)
        made_with = [f"{name} {done[name].description.version} {digest}" for name, digest in trees.items()]
        self.request.cache.put_made(build.key(digest, self.runtime, list(trees.values())), tree.digest, made_with)
        return CachedPackage(
            description_of_tree(self.request.cache, tree.digest), tree.digest, origin, tuple(made_with)
        )

    def _the_builder(self) -> Builder:
        """Made when the first package has to be built."""
        if self._builder is None:
            room: Room = self._stack.enter_context(build.opened(self.runtime))
            workplace.restored(
                self.request.place,
                self.request.cache,
                self.runtime,
                self.platform,
                self.request.previous,
                room.environment,
            )
            self._builder = Builder(self.request.cache, self.runtime, self.request.place, room)
        return self._builder

    # ---- what a project names itself

    def named(self, override: Override) -> Named:
        """What an override names, where it is not a version of a repository.

        Raises:
            DeclarationError: it is another package, or nothing.
        """
        work = self._stack.enter_context(self.request.cache.work_folder())
        found = self._checked_out(override, work.path) if override.commit else self._file_or_folder(override, work.path)
        if found.description.name != override.name:
            raise DeclarationError(
                f"What the override of {override.name} names is {found.description.name}",
                remedy="Correct the name, or what it names.",
            )
        return found

    def _checked_out(self, override: Override, work: Path) -> Named:
        checkout = source_trees.parse_version_control(f"git+{override.url}@{override.commit}")
        assert checkout is not None
        folder = work / "source"
        commit = source_trees.checked_out(checkout, folder)
        url = None if local_path(checkout.url) else checkout.shown
        origin = Origin(kind="version-control", system="git", url=url, commit=commit)
        digest = hashlib.sha256(f"git {commit}".encode()).hexdigest()
        return Named(_described(folder, override.target), origin, digest, folder)

    def _file_or_folder(self, override: Override, work: Path) -> Named:
        plain, _ = urldefrag(override.file or override.folder)
        path = local_path(plain)
        if path is None:
            return self._remote(override, plain, work)
        path = path if path.is_absolute() else self.request.place.root / path
        if path.is_dir():
            copy = source_trees.copied(path, work / "source")
            inside = self.request.place.relative(path)
            digest = source_trees.digest_of(copy)
            origin = origins.of_folder(self.request.place, path)
            if inside:
                origin = replace(origin, sources=f"sha256:{digest}")
            return Named(_described(copy, inside or str(path)), origin, digest, copy)
        if not path.is_file():
            raise DeclarationError(
                f"The override of {override.name} names {override.target}, which is not there", remedy="Correct it."
            )
        return self._of_file(path, path.name, Origin(kind="archive", file=path.name, sha256=sha256_of(str(path))), work)

    def _remote(self, override: Override, url: str, work: Path) -> Named:
        name = urlsplit(url).path.rpartition("/")[2]
        with self._fetched(Offer(override.name, "", url, "")) as (path, digest):
            origin = Origin(kind="archive", url=without_credentials(url), file=name, sha256=digest)
            return self._of_file(path, name, origin, work)

    def _of_file(self, path: Path, name: str, origin: Origin, work: Path) -> Named:
        read = description.parse(description_in(path, name))
        source = source_trees.unpacked(path, name, work / "source")
        assert origin.sha256
        return Named(read, origin, origin.sha256, source)


def _described(source: Path, shown: str) -> Description:
    try:
        found = description.read(source / description.FILE_NAME)
    except (OSError, ValueError) as error:
        raise PackageBroken(
            f"{shown} is no source of an R package", why=f"its DESCRIPTION cannot be read: {error}"
        ) from error
    if found.built is not None:
        raise PackageBroken(
            f"{shown} is an installed package, and no source of one",
            why=f"it was installed with R {found.built.runtime}; what it is made of cannot be seen",
            remedy="Take its source; or install it where its R is, and capture that: lapidar capture ENVIRONMENT.",
        )
    return found


def needed_of(found: Description) -> list[str]:
    """The names that a package needs to be built and loaded, without those that are R itself."""
    return [one.name for one in found.needs(*description.BUILT) if one.name not in BASE]


def _closure(name: str, described: Mapping[str, Description]) -> set[str]:
    met: set[str] = set()
    waiting = [name]
    while waiting:
        for other in needed_of(described[waiting.pop()]):
            if other in described and other not in met:
                met.add(other)
                waiting.append(other)
    return met - {name}


def _in_order(described: Mapping[str, Description]) -> Iterator[str]:
    """Each name after those that it needs.

    Raises:
        PackageBroken: packages need one another.
    """
    waiting = {name: {one for one in needed_of(found) if one in described} for name, found in sorted(described.items())}
    while waiting:
        ready = [name for name, needs in waiting.items() if not needs & waiting.keys()]
        if not ready:
            raise PackageBroken(
                "Packages need one another to be built",
                why=", ".join(list(waiting)[:5]),
                remedy="Use versions that do not.",
            )
        for name in ready:
            del waiting[name]
        yield from ready
