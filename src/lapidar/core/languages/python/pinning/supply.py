"""Get packages into the cache: fetched, verified, unpacked or built, stowed."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor, wait
from pathlib import Path
from urllib.parse import urldefrag, urlsplit

from msgspec.structs import replace
from packaging.requirements import Requirement
from packaging.utils import canonicalize_name

from lapidar.core import atomic, progress, sealed
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import stow
from lapidar.core.cache.trees import Tree
from lapidar.core.errors import DeclarationError, PackageBroken
from lapidar.core.languages import live, origins
from lapidar.core.languages import source_trees as sources
from lapidar.core.languages.python.building.build import SourceBuilder
from lapidar.core.languages.python.index.indexes import Indexes
from lapidar.core.languages.python.index.page import File
from lapidar.core.languages.python.pinning.cached import CachedPackage, metadata_of_tree
from lapidar.core.languages.python.pinning.target import Target
from lapidar.core.languages.python.pinning.workplace import Workplace
from lapidar.core.languages.python.standards import wheel
from lapidar.core.languages.python.standards.metadata import Metadata
from lapidar.core.net.addresses import local_path, without_credentials
from lapidar.core.net.fetching import Fetched
from lapidar.core.place import Place
from lapidar.core.records.declaration import Override
from lapidar.core.records.snapshot import Origin, Snapshot

__all__ = ["Supply"]

_AT_ONCE = 4
_LOOK_SECONDS = 0.1  # how often the progress of what is under way is told


class Supply:
    """Brings packages into the cache.

    Args:
        place: whose relative paths are meant.
        cache: in use by the caller.
        target: what sources are built for.
        no_builds: nothing is built, nor got from version control for that.
    """

    def __init__(
        self,
        place: Place,
        cache: Cache,
        indexes: Indexes,
        target: Target,
        reporter: progress.Progress,
        *,
        no_builds: bool = False,
    ) -> None:
        self.no_builds = no_builds
        self.place = place
        self.cache = cache
        self.indexes = indexes
        self.reporter = reporter
        self.workplace = Workplace(self, target)
        self.builder = SourceBuilder(cache, target.runtime, self.workplace.restored, place)

    # ---- files of an index

    def many(self, files: Sequence[File]) -> list[CachedPackage]:
        """Bring several files, fetching ahead while others are stowed."""
        brought = {file.url: made for file in files if (made := self.made(file))}
        wanted = [file for file in files if file.url not in brought]
        total = sum(file.bytes or 0 for file in wanted)
        with progress.task(self.reporter, "Fetching", total, "bytes"), ThreadPoolExecutor(_AT_ONCE) as pool:
            # Entered in their threads; left here, after they are stowed.
            began = [(file, self.indexes.fetched(file)) for file in wanted]
            paths = [(file, fetched, pool.submit(fetched.__enter__)) for file, fetched in began]
            told = 0
            try:
                for file, fetched, future in paths:
                    while not future.done():
                        wait([future], timeout=_LOOK_SECONDS)
                        now = sum(one.size for _, one in began)
                        self.reporter.advance(now - told)
                        told = now
                    brought[file.url] = self._bring(file, fetched, future.result())
                    fetched.__exit__(None, None, None)
            except BaseException:
                pool.shutdown(cancel_futures=True)
                for _, fetched, _ in paths:
                    fetched.__exit__(None, None, None)
                raise
        return [brought[file.url] for file in files]

    def known_metadata(self, file: File) -> Metadata | None:
        """What came of building a source distribution before; None where it was not built yet."""
        made = self.made(file)
        return made.metadata if made else None

    def built_metadata(self, file: File) -> Metadata:
        """What a source distribution needs: asked of its build backend, which may build it for that."""
        key = self.builder.key(file.sha256) if file.sha256 else ""
        kept = self.cache.answers / f"needs-{key}"
        if key and (data := sealed.read(kept)):
            return Metadata.parse(data.decode("utf-8", "replace"))
        with (
            progress.task(self.reporter, f"Asking what {file.name} needs", 0, ""),
            self.indexes.fetched(file) as path,
            self.cache.work_folder() as work,
        ):
            source = sources.unpacked(path, file.name, work.path / "source")
            told = self.builder.metadata(source, file.name, work.path)
        if told is None:
            return self.one(file).metadata
        if key:
            sealed.keep(kept, lambda: told)
        return Metadata.parse(told.decode("utf-8", "replace"))

    def one(self, file: File) -> CachedPackage:
        """Bring a file of an index."""
        return self.many([file])[0]

    def made(self, file: File) -> CachedPackage | None:
        """What came of a file before; None where it is still to be had."""
        if not file.sha256:
            return None
        key = file.sha256 if file.is_wheel else self.builder.key(file.sha256)
        return self._made(key, self._origin(file, file.sha256, file.bytes))

    def _made(self, key: str, origin: Origin) -> CachedPackage | None:
        made = self.cache.made(key)
        if made is None:
            return None
        return CachedPackage(metadata_of_tree(self.cache, made.tree), made.tree, origin, made.notes)

    def _bring(self, file: File, fetched: Fetched, path: Path) -> CachedPackage:
        digest = fetched.sha256
        # What the index does not tell nobody tells: else the lockfile would hang on who had fetched it.
        origin = self._origin(file, digest, file.bytes)
        if file.is_wheel:
            return self._stow(path, file.name, origin, digest)
        with self.cache.work_folder() as work:
            source = sources.unpacked(path, file.name, work.path / "source")
            return self._build(source, file.name, origin, digest, work.path)

    def _origin(self, file: File, digest: str, size: int | None) -> Origin:
        return origins.of_file(self.place, file.name, file.url, file.index, sha256=digest, size=size)

    # ---- into trees

    def _stow(
        self, path: Path, file_name: str, origin: Origin, key: str, built_with: Sequence[str] = ()
    ) -> CachedPackage:
        with wheel.opened(path, file_name) as content:
            try:
                tree: Tree = stow(self.cache, {file_name: content.drafts()}, None, progress.Silent())[file_name].tree
            except ValueError as error:
                raise PackageBroken(f"{file_name} is not a valid wheel", why=str(error)) from error
            self.cache.put_made(key, tree.digest, built_with)
            return CachedPackage(content.metadata, tree.digest, origin, tuple(built_with))

    def _build(self, source: Path, label: str, origin: Origin, digest: str, work: Path) -> CachedPackage:
        key = self.builder.key(digest)
        made = self._made(key, origin)
        if made:
            return made
        with progress.task(self.reporter, f"Building {label} from its source", 0, ""):
            built, built_with = self.builder.wheel(source, label, work)
        return self._stow(built, built.name, origin, key, built_with)

    def archives(self, folder: Path, to: Path) -> tuple[list[Path], Snapshot]:
        """See `lapidar.core.pinning.session.LanguagePinning`."""
        with self.cache.work_folder() as work:
            copy = sources.copied(folder, work.path / "source")
            with progress.task(self.reporter, f"Building {folder.name}", 0, ""):
                made, snapshot = self.builder.archives(copy, self.place.relative(folder) or str(folder), work.path)
            done = []
            for path in made:
                atomic.write_file(to / path.name, path.read_bytes())
                done.append(to / path.name)
        return done, snapshot

    # ---- what a project names itself

    def reference(self, requirement: Requirement) -> CachedPackage:
        """Bring what a direct reference names: a repository, a file at an address, a folder."""
        assert requirement.url is not None
        return self.named(requirement.name, requirement.url)

    def override(self, override: Override) -> CachedPackage:
        """Bring what an override names, where it is not a version of an index."""
        if override.commit:
            return self.named(override.name, f"git+{override.url}@{override.commit}")
        return self.named(override.name, override.file or override.folder)

    def named(self, name: str, url: str) -> CachedPackage:
        """Bring what an address or a path names.

        Raises:
            DeclarationError: it is another package.
        """
        checkout = sources.parse_version_control(url)
        if checkout and self.no_builds:
            raise DeclarationError(
                f"{name} comes from version control, and would have to be built",
                why=checkout.shown,
                remedy="Leave --wheels-only out, or name a wheel of it.",
            )
        held = self._checked_out(checkout, name) if checkout else self._file_or_folder(url)
        if held.metadata.name != canonicalize_name(name):
            raise DeclarationError(
                f"What {without_credentials(url)} holds is {held.metadata.name}, and not {name}",
                remedy="Correct the name or the address.",
            )
        return held

    def _checked_out(self, checkout: sources.Checkout, name: str) -> CachedPackage:
        with self.cache.work_folder() as work:
            folder = work.path / "source"
            commit = sources.checked_out(checkout, folder)
            origin = Origin(
                kind="version-control",
                system="git",
                url=None if local_path(checkout.url) else checkout.shown,
                commit=commit,
                revision=checkout.revision if checkout.revision not in ("", commit) else None,
                subdirectory=checkout.subdirectory or None,
            )
            inner = folder / checkout.subdirectory if checkout.subdirectory else folder
            digest = hashlib.sha256(f"git {commit} {checkout.subdirectory}".encode()).hexdigest()
            return self._build(inner, f"{name} at {commit[:12]}", origin, digest, work.path)

    def _file_or_folder(self, url: str) -> CachedPackage:
        plain, fragment = urldefrag(url)
        path = local_path(plain)
        if path is not None and not path.is_absolute():
            path = self.place.root / path
        if path is not None and path.is_dir():
            return self._folder(path)
        name = urlsplit(plain).path.rpartition("/")[2]
        promised = fragment.removeprefix("sha256=") if fragment.startswith("sha256=") else ""
        return self.one(File(name=name, url=path.as_uri() if path else plain, sha256=promised))

    def _folder(self, folder: Path) -> CachedPackage:
        inside = self.place.relative(folder)
        origin = origins.of_folder(self.place, folder)
        with self.cache.work_folder() as work:
            copy = sources.copied(folder, work.path / "source")
            digest, names = sources.digest_of(copy), sources.files_of(copy)
            built = self._build(copy, inside or str(folder), origin, digest, work.path)
            if not inside:
                return built
            told = live.found(self.cache.tree(built.tree), folder, names)
            known = replace(origin, sources=f"sha256:{digest}", live=told.folders or None, made=told.made or None)
            return replace(built, origin=known)
