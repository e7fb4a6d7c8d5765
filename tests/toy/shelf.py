"""Glaze's packages on shelves: folders that hold each version of a package as a folder ``NAME-VERSION``. See
`lapidar.core.languages.protocol.Pinning`."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from lapidar.core import spelling
from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import stow
from lapidar.core.cache.trees import Tree
from lapidar.core.errors import Conflict, DeclarationError, MissingFromCache
from lapidar.core.pinning.deciding import Deciding, OneSession, Universe
from lapidar.core.pinning.market import Release, assigned
from lapidar.core.pinning.session import LanguagePlan, PinRequest
from lapidar.core.pinning.solver import Wish
from lapidar.core.records.declaration import Declaration, Need
from lapidar.core.records.graph import Edge, Graph
from lapidar.core.records.owner import PackageName
from lapidar.core.records.snapshot import LanguageParts, Origin, Package, Platform, Runtime, Snapshot
from lapidar.core.system.machine import platform_here
from toy import inventory
from toy.glaze import LANGUAGE
from toy.inventory import Manifest


class Version(tuple[int, ...]):
    def __new__(cls, text: str) -> Version:
        return super().__new__(cls, map(int, text.split(".")))

    def __str__(self) -> str:
        return ".".join(map(str, self))


@dataclass(frozen=True)
class Exactly:
    version: str

    def contains(self, version: str) -> bool:
        return version == self.version


@dataclass(frozen=True)
class Choice:
    """A version: what is pinned already, or a folder of a shelf."""

    manifest: Manifest
    pinned: Package | None = None
    folder: Path = Path()
    shelf: str = ""

    @property
    def version(self) -> str:
        return self.manifest.version

    def is_of(self, package: Package) -> bool:
        return True  # a version on a shelf is never another


class Shelves(Universe):
    """See `lapidar.core.pinning.market.Market`."""

    def __init__(self, request: PinRequest, kept: Mapping[str, Choice], settled: Mapping[str, Version]) -> None:
        super().__init__({*kept, *settled})
        self.indexes = [one for one in request.declaration.indexes if one.language == "glaze"]
        self.kept = kept
        self.settled = settled
        self.has_indexes = bool(self.indexes)

    def choices(self, name: str) -> dict[Version, Choice]:
        found = {}
        for index in assigned(self.indexes, name):
            for folder in Path(index.address).glob(f"{name}-*/"):
                found[Version(folder.name.removeprefix(f"{name}-"))] = Choice(
                    Manifest.read(folder), folder=folder, shelf=index.address
                )
        return found | ({Version(self.kept[name].version): self.kept[name]} if name in self.kept else {})

    def releases(self, name: str) -> list[Release]:
        return [Release(one, None, is_built=True) for one in sorted(self.choices(name), reverse=True)]

    def versions(self, name: str) -> Sequence[Version]:
        if name in self.settled:
            return [self.settled[name]]
        kept = Version(self.kept[name].version) if name in self.kept else None
        return sorted(self.choices(name), key=lambda one: (one == kept, one), reverse=True)

    def fits(self, wish: Wish, version: Version) -> bool:
        return wish.range is None or bool(wish.range.contains(str(version)))

    def wishes(self, name: str, version: Version, extra: str) -> Sequence[Wish]:
        needs = map(LANGUAGE.versions.parse_need, self.choices(name)[version].manifest.needs)
        return [wish_of(one, any_version=one.name in self.settled) for one in needs]

    def soon(self, wishes: Sequence[Wish]) -> None: ...

    def near(self, name: str) -> list[str]:
        names = {path.name.rpartition("-")[0] for index in self.indexes for path in Path(index.address).iterdir()}
        return spelling.near(name, sorted(names))

    def wish_for(self, name: str, version: Version) -> Wish:
        return Wish(name, (), Exactly(str(version)), f"{name} {version}")


def wish_of(need: Need, *, any_version: bool = False) -> Wish:
    return Wish(need.name, (), None if any_version else need.parsed, need.text, need.where)


@dataclass(frozen=True)
class Target:
    runtime: Runtime
    platform: Platform

    def __str__(self) -> str:
        return f"Glaze {self.runtime.version}"


class Decider(Deciding):
    language = "glaze"
    source = "shelf"
    versions_command = "lapidar versions --language glaze"

    def wish_of(self, need: Need, *, any_version: bool = False) -> Wish:
        return wish_of(need, any_version=any_version)

    def candidates(self, *, without_override: str = "", keep: bool = True) -> Shelves:
        forced = {name: one for name, one in self.overrides.items() if name != without_override}
        settled = {name: Version(one.version) for name, one in forced.items()}
        kept = {
            package.name: Choice(Manifest.of(self.request.cache, package.tree), pinned=package)
            for package in (self.staying(settled) if keep else ())
        }
        return Shelves(self.request, kept, settled)

    def plan(self) -> LanguagePlan:
        market = self.candidates()
        self.require_versions_of_overrides(market, market.settled)
        answer = self.solve(market)
        choices = {name: market.choices(name)[version] for name, version in answer.items()}
        return LanguagePlan(choices, tuple(self.changes(choices)), (), 0, 0, self.effects(answer))


class GlazePinning(OneSession):
    def plan_of_file(self, path: Path) -> LanguagePlan:
        raise DeclarationError(f"{path} cannot be read for Glaze")

    def carry_out(self, plan: LanguagePlan) -> LanguageParts:
        choices: Mapping[str, Any] = plan.choices
        asked = {need.name for need in self.decider.needs}
        packages = tuple(self._record(choices[name], name in asked) for name in sorted(choices))
        return LanguageParts(self.target.runtime, packages, ())

    def _record(self, choice: Choice, wanted: bool) -> Package:
        if choice.pinned:
            return replace(choice.pinned, wanted=wanted)
        digest = sha256_of(str(choice.folder / inventory.MANIFEST))
        origin = Origin(kind="index", index=choice.shelf, file=choice.folder.name, sha256=digest)
        return inventory.record(choice.manifest, tree_of(self.request, choice.folder), wanted, origin)


def tree_of(request: PinRequest, folder: Path) -> Tree:
    """Bring a folder of a shelf into the cache."""
    return stow(request.cache, {"": inventory.drafts_of(folder)}, None, request.reporter)[""].tree


def target_of(request: PinRequest) -> Target:
    """The runtime of the lockfile that there is, or that of the project's kiln."""
    known = request.previous.runtime_of("glaze") if request.previous else None
    if request.previous and known:
        return Target(known, request.previous.platform)
    found = LANGUAGE.capturing.locate(request.place, None)
    if found is None:
        raise Conflict("There is no Glaze to pin for", remedy="Make a kiln.")
    kiln = inventory.observe(found.interpreter.parent.parent)
    runtime = kiln.records(stow(request.cache, kiln.drafts(), None, request.reporter)).runtime
    return Target(runtime, platform_here())


@contextmanager
def opened(request: PinRequest) -> Iterator[GlazePinning]:
    with request.cache.in_use():
        target = target_of(request)
        yield GlazePinning(request, target, None, Decider(request, target))


def fetch_missing(request: PinRequest, snapshot: Snapshot) -> list[str]:
    own = [one for one in snapshot.packages if one.language == "glaze"]
    missing = [one for one in own if not request.cache.is_whole(one.tree)]
    for package in missing:
        folder = Path(package.origin.index or "") / (package.origin.file or "")
        known = any(index.address == package.origin.index for index in request.declaration.indexes)
        if not known or not folder.is_dir() or tree_of(request, folder).digest != package.tree:
            raise MissingFromCache(f"{package.name} is on no shelf as it was", remedy="Find the cache that has it.")
    return [one.name for one in missing]


def add_needs(
    graph: Graph, declaration: Declaration, cache: Cache | None, about: Collection[str] | None = None
) -> None:
    needs = declaration.needs_of("glaze")
    for need in needs:
        graph.add(Edge(None, need.key, need.text, need.where))
    for package in (one for one in graph.snapshot.packages if one.language == "glaze"):
        if package.asked_for and not needs:
            graph.add(Edge(None, package.key, package.name, "lapidar.lock"))
        for text in Manifest.of(cache, package.tree).needs if cache else package.requires:
            graph.add(Edge(package.key, PackageName("glaze", inventory.named(text)), text))
