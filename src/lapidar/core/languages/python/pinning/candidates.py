"""What there is to choose from, and why not the rest: the files of the indexes, judged for a target."""

from __future__ import annotations

import datetime
import re
from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import Protocol

from msgspec import Struct, field
from msgspec.structs import replace
from packaging.requirements import InvalidRequirement, Requirement
from packaging.specifiers import SpecifierSet
from packaging.utils import InvalidSdistFilename, canonicalize_name, parse_sdist_filename
from packaging.version import InvalidVersion, Version

from lapidar.core import progress, spelling
from lapidar.core.errors import IndexTrouble, PackageBroken
from lapidar.core.languages.python.building.build import BuildFailed
from lapidar.core.languages.python.index import source_metadata
from lapidar.core.languages.python.index.indexes import Indexes, NoMetadata
from lapidar.core.languages.python.index.page import File
from lapidar.core.languages.python.pinning.cached import CachedPackage
from lapidar.core.languages.python.pinning.ranges import VersionBits
from lapidar.core.languages.python.pinning.target import Target
from lapidar.core.languages.python.requirements import shown
from lapidar.core.languages.python.standards.metadata import Metadata, applies
from lapidar.core.pinning.deciding import Universe
from lapidar.core.pinning.market import Against, Reason, Release
from lapidar.core.pinning.solver import Wish

__all__ = ["Candidates", "Policy", "Settled", "names_prerelease", "wish_of"]


class Settled(Struct, frozen=True):
    """A version that is settled from elsewhere than an index: an override, a direct reference, a kept package.

    Attributes:
        cached: it in the cache; None where its file is still to be had from an index.
    """

    version: Version
    cached: CachedPackage | None = None


class Policy(Struct, frozen=True):
    """What may be chosen.

    Attributes:
        prereleases: names of which the project's own needs name a pre-release.
        exact: for names, the versions that its own needs pin exactly; these may be withdrawn ones.
        sha256: for names, the digests that a file must have one of.
        as_of: nothing that came later than the end of this day (UTC).
        kept_alone: of what is pinned and in the cache, nothing else.
        built_first: of what has versions that need no building, only these.
        forced: names whose version is settled by an override, so that nobody's range counts.
        kept: what is pinned already and preferred.
        settled: what is chosen from alone, for a name.
    """

    prereleases: Collection[str] = ()
    exact: Mapping[str, Collection[Version]] = field(default_factory=dict)
    sha256: Mapping[str, Collection[str]] = field(default_factory=dict)
    as_of: datetime.date | None = None
    no_builds: bool = False
    forced: Collection[str] = ()
    built_first: bool = False
    kept_alone: bool = False
    pinned: Mapping[str, Settled] = field(default_factory=dict)
    settled: Mapping[str, Settled] = field(default_factory=dict)


def names_prerelease(specifier: SpecifierSet) -> bool:
    """Whether a range names a pre-release itself."""
    for one in specifier:
        try:
            if Version(one.version.removesuffix(".*")).is_prerelease:
                return True
        except InvalidVersion:  # "===" may name anything
            continue
    return False


def wish_of(requirement: Requirement, where: str = "", *, any_version: bool = False) -> Wish:
    """A requirement as a wish of the resolver."""
    extras = tuple(sorted(canonicalize_name(extra) for extra in requirement.extras))
    specifier = None if any_version or requirement.url or not requirement.specifier else requirement.specifier
    return Wish(canonicalize_name(requirement.name), extras, specifier, shown(requirement), where)


class Sources(Protocol):
    """What knows source distributions by building them."""

    def known_metadata(self, file: File) -> Metadata | None:
        """What came of building one before; None where it was not built yet."""

    def built_metadata(self, file: File) -> Metadata:
        """What comes of building one.

        Raises:
            BuildFailed, PackageBroken: it cannot be built.
        """


class Candidates(Universe):
    """The universe of one resolution; see `lapidar.core.pinning.market.Market`.

    Attributes:
        looked_at: how many pages and metadata the resolver wanted.
        has_more: whether versions that would have to be built were left out.
        guessed: of versions that would be built, the wheel whose needs were taken for theirs.
    """

    need = "{}{}{}"

    def __init__(
        self,
        indexes: Indexes,
        target: Target,
        policy: Policy,
        sources: Sources,
        reporter: progress.Progress | None = None,
    ) -> None:
        super().__init__({*policy.settled, *policy.pinned})
        self.indexes = indexes
        self.target = target
        self.policy = policy
        self.looked_at = 0
        self.has_more = False
        self.guessed: dict[tuple[str, Version], str] = {}
        self._sources = sources
        self.reporter = reporter or progress.Silent()
        self._looked: dict[str, int] = {}
        self._bits: dict[str, VersionBits] = {}
        self._files: dict[tuple[str, Version], list[File]] = {}
        self._chosen_files: dict[tuple[str, Version], File] = {}
        self._metadata: dict[tuple[str, Version], Metadata | None] = {}

    # ---- the universe

    @property
    def has_indexes(self) -> bool:
        return bool(self.indexes.indexes)

    @property
    def settled(self) -> Collection[str]:
        return self.policy.settled.keys()

    def near(self, name: str) -> list[str]:
        from lapidar.core.languages.python.index import well_known

        return spelling.near(
            name, [*well_known.of_cache(self.indexes.cache), *self.indexes.names(name), *well_known.listed()]
        )

    def fitting(self, wish: Wish, versions: Sequence[Version]) -> int:
        if isinstance(wish.range, Version):
            return sum(2 << at for at, version in enumerate(versions) if version == wish.range)
        known = self._bits.get(wish.name)
        if known is None or known.versions is not versions:
            known = self._bits[wish.name] = VersionBits(versions)
        return known.allowed(wish.range)

    def fits(self, wish: Wish, version: Version) -> bool:
        allowed = wish.range
        if isinstance(allowed, Version):
            return bool(allowed == version)
        return bool(allowed.contains(version, prereleases=True))

    def wish_for(self, name: str, version: Version) -> Wish:
        return Wish(name, (), version, f"{name}=={version}")

    def versions(self, name: str) -> Sequence[Version]:
        settled = self.policy.settled.get(name)
        if settled:
            return [settled.version]
        kept = self.policy.pinned.get(name)
        if kept and (not self.indexes.indexes or (self.policy.kept_alone and kept.cached)):
            return [kept.version]
        usable = [release for release in self.releases(name) if not release.reason]
        built = [one.version for one in usable if one.is_built]
        # What must be built is looked at where nothing that is built can do.
        from_source = [one.version for one in usable if not one.is_built]
        if from_source and built and self.policy.built_first:
            self.has_more, from_source = True, []
        fitting = built + from_source
        if not kept:
            return fitting
        if kept.cached is None and kept.version not in fitting:
            return fitting
        return [kept.version, *(version for version in fitting if version != kept.version)]

    def wishes(self, name: str, version: Version, extra: str) -> Sequence[Wish] | None:
        metadata = self.metadata(name, version)
        if metadata is None:
            return None
        wishes: list[Wish] = []
        for text in metadata.requires:
            try:
                requirement = Requirement(text)
            except InvalidRequirement as error:
                self._unusable(name, version, f"one of its needs cannot be read: {str(error).splitlines()[0]}")
                return None
            if not applies(requirement, self.target.markers, extra):
                continue
            wish = wish_of(requirement, any_version=canonicalize_name(requirement.name) in self.policy.forced)
            if requirement.url and wish.name not in self.policy.settled:
                self._unusable(name, version, f"it needs {wish.text}, an address that the project does not name")
                return None
            wishes.append(wish)
        return wishes

    def soon(self, wishes: Sequence[Wish]) -> None:
        """Ask for the pages, and, where a page is here, for the metadata of what will most likely be chosen."""
        names = [wish.name for wish in wishes if wish.name not in self.policy.settled]
        if not self.indexes.indexes:
            return
        self.indexes.ask_ahead(names)
        for wish in wishes:
            if wish.name in self._releases:
                self._metadata_soon(wish)

    def _metadata_soon(self, wish: Wish) -> None:
        if wish.name in self.policy.settled or wish.name in self.policy.pinned:
            return
        for release in self._releases[wish.name]:
            if not release.reason and (wish.range is None or self.fits(wish, release.version)):
                self._ask_metadata(wish.name, release.version)
                return

    def _ask_metadata(self, name: str, version: Version) -> None:
        file = self._chosen_files.get((name, version))
        if file and file.is_wheel:
            self.indexes.metadata_ahead(file)

    def _likely(self, name: str, version: Version) -> None:
        """Where one version after the other is looked at, those that come next are asked for together, more each
        time."""
        looked = self._looked[name] = self._looked.get(name, 0) + 1
        if looked < 2 or name not in self._releases:
            return
        usable = [one.version for one in self._releases[name] if not one.reason and one.is_built]
        try:
            at = usable.index(version)
        except ValueError:
            return
        for following in usable[at + 1 : at + 1 + min(_MOST_AHEAD, 2**looked)]:
            self._ask_metadata(name, following)

    # ---- needs

    def metadata(self, name: str, version: Version) -> Metadata | None:
        """The core metadata of a version; None where it cannot be used, with a note."""
        key = (name, version)
        if key not in self._metadata:
            self.looked_at += 1
            self.reporter.advance(1)
            self._likely(name, version)
            self._metadata[key] = self._read_metadata(name, version)
        return self._metadata[key]

    def _read_metadata(self, name: str, version: Version) -> Metadata | None:
        cached = self.cached(name, version)
        if cached:
            return cached.metadata
        file = self.file(name, version)
        try:
            metadata = self._metadata_of(file, name, version)
            told = Version(metadata.version)
        except (NoMetadata, ValueError) as error:
            self._unusable(name, version, str(error))
            return None
        except (BuildFailed, PackageBroken) as error:
            self._unusable(name, version, f"{error} {error.remedy}".strip())
            return None
        if metadata.name != name or told != version:
            self._unusable(name, version, f"{file.name} says that it is {metadata.name} {metadata.version}")
            return None
        if not self.target.fits_python(metadata.requires_python):
            self._unusable(name, version, f"it needs Python {metadata.requires_python}", note=False)
            return None
        return metadata

    def _metadata_of(self, file: File, name: str, version: Version) -> Metadata:
        if file.is_wheel:
            return Metadata.parse(self.indexes.metadata(file).decode("utf-8", "replace"))
        if known := self._sources.known_metadata(file):
            return known
        others = self._files.get((name, version), [])
        if found := source_metadata.read(self.indexes, file, name, version, others):
            if found.guessed:
                self.guessed[name, version] = found.guessed
            return found.metadata
        return self._sources.built_metadata(file)

    def wheels_for(self, name: str, version: Version) -> set[str]:
        """The runtimes that there are wheels of a version for, as far as their names tell: ``3.9``."""
        tags = (_RUNTIME.search(file.name) for file in self._files.get((name, version), []) if file.is_wheel)
        return {f"{tag[1]}.{tag[2]}" for tag in tags if tag}

    def to_build(self, name: str, version: Version) -> str:
        """Why a version would have to be built, a sentence; "" where there is no need to."""
        file = self._chosen_files.get((name, version))
        if file is None or file.is_wheel or self._sources.known_metadata(file):
            return ""
        runtimes = _built_for(self._files.get((name, version), []))
        only = f", only for {runtimes}" if runtimes else ""
        short = ".".join(self.target.runtime.version.split(".")[:2])
        guess = self.guessed.get((name, version))
        told = f"; what it needs is taken from {guess} till then" if guess else ""
        return f"{name} {version} has no wheel for CPython {short}{only}; it is built from source{told}"

    # ---- files

    def cached(self, name: str, version: Version) -> CachedPackage | None:
        """A version that is in the cache already, by what is settled or kept."""
        for settled in (self.policy.settled.get(name), self.policy.pinned.get(name)):
            if settled and settled.version == version and settled.cached:
                return settled.cached
        return None

    def file(self, name: str, version: Version) -> File:
        """The file of a version that is used here.

        Raises:
            KeyError: there is none.
        """
        return self._chosen_files[(name, version)]

    def releases(self, name: str) -> list[Release]:
        """Every version of a name, the newest first, with the reason against it where there is one.

        Raises:
            IndexTrouble: an index cannot be used, or tells too little for --as-of.
        """
        if name not in self._releases:
            self.looked_at += 1
            self.reporter.advance(1)
            files = _by_version(self.indexes.files(name), name)
            self._require_times(name, files)
            found = [self._release(name, version, files[version]) for version in sorted(files, reverse=True)]
            self._releases[name] = self._without_prereleases(name, found)
        return self._releases[name]

    def _require_times(self, name: str, files: Mapping[Version, Iterable[File]]) -> None:
        if self.policy.as_of and files and not any(file.uploaded for several in files.values() for file in several):
            raise IndexTrouble(
                f"--as-of cannot be used: the index does not tell when the files of {name} came",
                remedy="Use an index that gives upload times (version 1.1 of the Simple API), or leave --as-of away.",
            )

    def _release(self, name: str, version: Version, files: list[File]) -> Release:
        self._files[(name, version)] = files
        found = self._usable(name, version, files)
        usable = found if isinstance(found, File) else None
        if usable:
            self._chosen_files[(name, version)] = usable
        return Release(
            version,
            reason=None if isinstance(found, File) else found,
            uploaded=min((file.uploaded for file in files if file.uploaded), default=""),
            is_withdrawn=all(file.withdrawn is not None for file in files),
            is_prerelease=version.is_prerelease,
            file=usable.name if usable else "",
            is_built=usable is not None and usable.is_wheel,
        )

    def _usable(self, name: str, version: Version, files: list[File]) -> File | Reason:
        """The best of a version's files for the target, or why there is none."""
        files = [file for file in files if not self.policy.as_of or _came_by(file, self.policy.as_of)]
        if not files:
            return Reason(Against.CAME_LATER, str(self.policy.as_of))
        if version not in self.policy.exact.get(name, ()):
            standing = [file for file in files if file.withdrawn is None]
            if not standing:
                why = next((file.withdrawn for file in files if file.withdrawn), "")
                return Reason(Against.WITHDRAWN, f": {why}" if why else "")
            files = standing
        if digests := self.policy.sha256.get(name):
            files = [file for file in files if file.sha256 in digests]
            if not files:
                return Reason(Against.DIGESTS)
        fitting = [file for file in files if self.target.fits_python(file.requires_python)]
        if not fitting:
            return Reason(Against.RUNTIME, f"Python {files[0].requires_python}")
        ranked = [(rank, file.name, file) for file in fitting if (rank := self.target.rank(file.name)) is not None]
        if ranked:
            return min(ranked)[2]
        sources = [file for file in fitting if not file.is_wheel and not file.name.endswith((".egg", ".exe"))]
        if sources and not self.policy.no_builds:
            return min(sources, key=lambda file: (not file.name.endswith(".tar.gz"), file.name))
        runtimes = _built_for(files)
        only = f" (only for {runtimes})" if runtimes else ""
        return Reason(Against.ONLY_SOURCE if sources else Against.NOTHING_BUILT, f"wheel for {self.target}{only}")

    def _without_prereleases(self, name: str, releases: list[Release]) -> list[Release]:
        final = any(not release.reason and not release.is_prerelease for release in releases)
        if name in self.policy.prereleases or not final:
            return releases
        return [
            replace(one, reason=Reason(Against.PRE_RELEASE)) if one.is_prerelease and not one.reason else one
            for one in releases
        ]


_MOST_AHEAD = 32
_RUNTIME = re.compile(r"-(?:cp|py)(\d)(\d+)[-.]")


def _built_for(files: Iterable[File]) -> str:
    """For which runtimes there are wheels among files, by their tags: ``3.8 to 3.10``; "" where they tell none."""
    tags = [_RUNTIME.search(file.name) for file in files if file.is_wheel]
    versions = sorted({(int(tag[1]), int(tag[2])) for tag in tags if tag})
    ends = dict.fromkeys([versions[0], versions[-1]]) if versions else ()
    return " to ".join(f"{major}.{minor}" for major, minor in ends)


def _came_by(file: File, day: datetime.date) -> bool:
    return bool(file.uploaded) and file.uploaded[:10] <= day.isoformat()


def _by_version(files: Iterable[File], name: str) -> dict[Version, list[File]]:
    """Files by the version in their names; those whose names have not the standard's form are passed over."""
    by_text: dict[str, list[File]] = {}
    for file in files:
        text = _version_text(file, name)
        if text:
            by_text.setdefault(text, []).append(file)
    found: dict[Version, list[File]] = {}
    for text, several in by_text.items():
        try:
            found.setdefault(Version(text), []).extend(several)
        except InvalidVersion:
            continue
    return found


def _version_text(file: File, name: str) -> str:
    if file.is_wheel:
        return file.name.split("-", 2)[1]
    try:
        told, version = parse_sdist_filename(file.name)
        return str(version) if told == name else ""
    except InvalidSdistFilename:
        return ""
