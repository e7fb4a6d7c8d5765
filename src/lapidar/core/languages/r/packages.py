"""The packages layer: every package of the libraries that a project sees. The bytes of the installed folder are what a
package is; R keeps no list of its files."""

from __future__ import annotations

import os
import re
from collections.abc import Collection, Iterator

import msgspec
from msgspec import Struct, field
from msgspec.structs import replace

from lapidar.core.cache.stowing import Draft, Stowed
from lapidar.core.environment import launchers, marker, walk
from lapidar.core.environment.explained import Explained
from lapidar.core.environment.folder import Environment
from lapidar.core.environment.walk import Found
from lapidar.core.errors import PackageBroken
from lapidar.core.languages.r import description, versions
from lapidar.core.languages.r.description import Description
from lapidar.core.languages.r.probe import Answer
from lapidar.core.languages.r.requirements import BASE
from lapidar.core.records.owner import Layer, Owner
from lapidar.core.records.snapshot import Origin, Package
from lapidar.core.system import owners

__all__ = ["KEPT", "Kept", "PackageFound", "PackagesFound", "observe", "versions_in"]

KEPT = f"{marker.PRIVATE}/r-packages.json"  # in a restored environment: what of the records no file of a package says
_LOCK = re.compile(r"00LOCK(-.*)?")
_COMMIT = re.compile(r"[0-9a-f]{40}|[0-9a-f]{64}")
_SHOWN = 3


class Kept(msgspec.Struct, frozen=True, omit_defaults=True):
    """What is kept of a package in a restored environment, as long as it is of the same version."""

    version: str
    origin: Origin
    wanted: bool = False
    groups: tuple[str, ...] = ()
    built_with: tuple[str, ...] = ()

    @classmethod
    def of(cls, package: Package) -> Kept:
        """What is kept of a record."""
        return cls(package.version, package.origin, package.wanted, package.groups, package.built_with)


class PackageFound(Struct, frozen=True):
    """A package as found.

    Attributes:
        folder: where it lies.
        wanted: whether somebody asked for it by name; None where nobody knows.
    """

    description: Description
    folder: str
    drafts: list[Draft]
    origin: Origin
    wanted: bool | None = None
    groups: tuple[str, ...] = ()
    built_with: tuple[str, ...] = ()

    @property
    def name(self) -> str:
        return self.description.name

    @property
    def owner(self) -> Owner:
        return Owner(Layer.PACKAGES, "r", self.name, self.description.version)

    def record(self, stowed: Stowed, requires: tuple[str, ...], *, is_root: bool) -> Package:
        """The record, once its files are stowed.

        Args:
            is_root: whether no other package needs it.
        """
        return Package(
            language="r",
            name=self.name,
            version=self.description.version,
            tree=stowed.tree.digest,
            files=len(stowed.tree),
            bytes=stowed.tree.total_bytes,
            requires=requires,
            wanted=is_root if self.wanted is None else self.wanted,
            origin=self.origin,
            groups=self.groups,
            built_with=self.built_with,
        )


class PackagesFound(Struct, frozen=True):
    """All packages of an environment as found.

    Attributes:
        warnings: what the user should know, a sentence each.
        notes: what was left out.
    """

    packages: list[PackageFound] = field(default_factory=list)
    warnings: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)

    def only(self, names: Collection[str], asked: Collection[str]) -> PackagesFound:
        """Some of the packages.

        Args:
            asked: the names that are asked for.
        """
        kept = [replace(one, wanted=one.name in asked) for one in self.packages if one.name in names]
        return replace(self, packages=kept)

    @property
    def needs(self) -> dict[str, tuple[str, ...]]:
        """By each name, the packages here that it needs when it is loaded."""
        here = {package.name for package in self.packages}
        return {
            package.name: tuple(sorted({one.name for one in package.description.needs(*description.RUN_TIME)} & here))
            for package in self.packages
        }


def observe(answer: Answer, own: frozenset[str], explained: Explained, environment: Environment) -> PackagesFound:
    """Find all packages.

    Args:
        own: the packages that are R itself.
        explained: tells what a link may lead to.
        environment: the folder that R lies in, which may be a restored environment.

    Raises:
        PackageBroken: a package cannot be captured as it is.
    """
    found = _Observer(answer, own, explained, environment)
    for library in answer.libraries:
        found.library(library)
    return found.result()


class _Observer:
    def __init__(self, answer: Answer, own: frozenset[str], explained: Explained, environment: Environment) -> None:
        self.answer = answer
        self.own = own
        self.explained = explained
        self.is_restored = environment.is_ours
        self.kept = environment.kept(KEPT, dict[str, Kept]) or {}
        self.packages: dict[str, PackageFound] = {}
        self.shadowed: list[str] = []
        self.half: list[str] = []
        self.odd: list[str] = []
        self.others: dict[str, list[str]] = {}  # packages by the version of R that they were installed with
        self.notes: list[str] = []

    def library(self, library: str) -> None:
        """Add the packages of one library."""
        for name in sorted(os.listdir(library)):
            folder = f"{library}/{name}"
            if not os.path.isdir(folder) or (library == self.answer.own and name in (*self.own, "translations")):
                continue
            if _LOCK.fullmatch(name):
                self.half.append(folder)
            elif not os.path.isfile(f"{folder}/{description.FILE_NAME}"):
                self.odd.append(folder)
            else:
                self._package(folder, name)

    def _package(self, folder: str, name: str) -> None:
        try:
            read = description.read(f"{folder}/{description.FILE_NAME}")
        except (OSError, ValueError) as error:
            raise PackageBroken(
                f"The package in {folder} cannot be captured",
                why=f"its DESCRIPTION cannot be read: {error}",
                remedy="Install it again, or remove its folder.",
            ) from error
        if read.name != name:
            raise PackageBroken(
                f"The package in {folder} says that it is {read.name}",
                remedy="R finds packages by the names of their folders: install it again.",
            )
        if name in self.packages or name in self.own:
            self.shadowed.append(f"{name} {read.version} in {os.path.dirname(folder)}")
            return
        if read.built is None:
            raise PackageBroken(
                f"{folder} is the source of a package, and not an installed one",
                why="its DESCRIPTION does not say what it was built with",
                remedy="Install it with R CMD INSTALL, or take it out of the library.",
            )
        if not _works_with(read.built.runtime, self.answer.version):
            self.others.setdefault(read.built.runtime, []).append(name)
        found = PackageFound(read, folder, self._drafts(folder), Origin(kind="environment"))
        kept = self.kept.get(name)
        if kept and kept.version == read.version:
            found = replace(
                found, origin=kept.origin, wanted=kept.wanted, groups=kept.groups, built_with=kept.built_with
            )
        self.packages[name] = found

    def _drafts(self, folder: str) -> list[Draft]:
        found = list(walk.walk(folder))
        if self.is_restored:
            found = list(_as_captured(found))
        drafted = walk.drafts(found, may_take=self.explained)
        name = os.path.basename(folder)
        self.notes += [f"{name}: the link {path} leads nowhere and was left out" for path in drafted.broken]
        self.notes += [
            f"{name}: the link {path} leads to {real}, which nothing explains, and was left out"
            for path, real in drafted.foreign.items()
        ]
        return drafted.drafts

    def result(self) -> PackagesFound:
        """All of them, with where they came from."""
        by_system = owners.here().of(f"{one.folder}/{description.FILE_NAME}" for one in self.packages.values())
        packages = [
            replace(one, origin=_origin(one, by_system.get(f"{one.folder}/{description.FILE_NAME}")))
            if one.wanted is None  # what a restored environment knows of it stays
            else one
            for one in self.packages.values()
        ]
        return PackagesFound(packages, list(self._warnings()), [*self.notes, *self._notes()])

    def _notes(self) -> Iterator[str]:
        if self.shadowed:
            yield f"packages that others of the same name come before: {_some(self.shadowed)}"
        if self.odd:
            yield f"folders of libraries that are no packages: {_some(self.odd)}"

    def _warnings(self) -> Iterator[str]:
        if self.half:
            yield f"an installation was not finished, and what it left was passed over: {_some(self.half)}"
        for version, names in sorted(self.others.items()):
            yield f"installed with R {version}, and may not work with {self.answer.version}: {_some(names)}"
        lower: dict[str, list[str]] = {}
        for name in self.packages:
            lower.setdefault(name.lower(), []).append(name)
        for names in lower.values():
            if len(names) > 1:
                yield f"names that differ only by case, which not every file system tells apart: {_some(names)}"
        lacking = sorted(
            {
                f"{one.name} (which {package.name} needs)"
                for package in self.packages.values()
                for one in package.description.needs(*description.RUN_TIME)
                if one.name not in self.packages and one.name not in BASE | self.own
            }
        )
        if lacking:
            yield f"packages that others need are not there: {_some(lacking)}"


def _works_with(built: str, runtime: str) -> bool:
    """Whether a package that was installed with one version of R is meant to work with another: one of the same major
    version, and no older one."""
    try:
        installed, here = versions.key(built), versions.key(runtime)
    except ValueError:
        return False
    return installed[0] == here[0] and installed[:2] <= here[:2]


def _some(names: list[str]) -> str:
    more = f" and {len(names) - _SHOWN} more" if len(names) > _SHOWN else ""
    return ", ".join(names[:_SHOWN]) + more


def _as_captured(found: list[Found]) -> Iterator[Found]:
    """In a restored environment: programs in a package's folder lie behind their starters."""
    paths = {one.path for one in found}
    originals = {launchers.behind_starter(path): path for path in paths}
    for one in found:
        if one.path in originals:
            yield one._replace(path=originals[one.path])
        elif launchers.behind_starter(one.path) not in paths:
            yield one


def _origin(package: PackageFound, by_system: owners.SystemPackage | None) -> Origin:
    """Where a package came from, as far as it says so itself, or its operating system does."""
    fields = package.description.fields
    if by_system:
        return Origin(kind="environment", system=f"{by_system.name} {by_system.version}")
    commit, url = fields.get("RemoteSha", ""), fields.get("RemoteUrl", fields.get("URL", "").split(",")[0].strip())
    if _COMMIT.fullmatch(commit) and url and " " not in url:
        return Origin(kind="version-control", system="git", url=url, commit=commit)
    if repository := fields.get("Repository", ""):
        return Origin(kind="index", index=repository, file=f"{package.name}_{package.description.version}.tar.gz")
    return package.origin


def versions_in(answer: Answer) -> dict[str, str]:
    """The packages that an R sees, with their versions, without those that are R itself; what is broken is passed
    over."""
    found: dict[str, str] = {}
    for library in answer.libraries:
        for name in sorted(os.listdir(library)):
            try:
                read = description.read(f"{library}/{name}/{description.FILE_NAME}")
            except (OSError, ValueError):
                continue
            if not read.is_of_runtime:
                found.setdefault(name, read.version)
    return found
