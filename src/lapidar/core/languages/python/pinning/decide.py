"""Which packages: the project's needs, what may be chosen, and the answer of the resolver."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping

from msgspec import Struct
from msgspec.structs import replace
from packaging.version import InvalidVersion, Version

from lapidar.core import progress
from lapidar.core.errors import Conflict
from lapidar.core.languages.python import runtimes
from lapidar.core.languages.python.index.page import File
from lapidar.core.languages.python.pinning import cached
from lapidar.core.languages.python.pinning.cached import CachedPackage
from lapidar.core.languages.python.pinning.candidates import Candidates, Policy, Settled, names_prerelease, wish_of
from lapidar.core.languages.python.pinning.resolving import exact, solve, solve_at_once
from lapidar.core.languages.python.pinning.supply import Supply
from lapidar.core.languages.python.pinning.target import Target
from lapidar.core.languages.python.requirements import requirement_of
from lapidar.core.languages.python.standards.metadata import Metadata, applies
from lapidar.core.pinning.deciding import Deciding
from lapidar.core.pinning.session import LanguagePlan, PinRequest
from lapidar.core.pinning.solver import Wish
from lapidar.core.records.declaration import Need, Override
from lapidar.core.records.declared import OverrideStanding
from lapidar.core.records.snapshot import Package

__all__ = ["Choice", "Decider"]


class Choice(Struct, frozen=True):
    """A chosen version, and either what the cache has of it or the file to fetch."""

    metadata: Metadata
    cached: CachedPackage | None
    file: File | None

    @property
    def version(self) -> str:
        return self.metadata.version

    def is_of(self, package: Package) -> bool:
        """Whether it has the same bytes."""
        if self.cached:
            return self.cached.tree == package.tree
        return self.file is not None and self.file.sha256 == package.origin.sha256


class Decider(Deciding):
    """Resolves what a project declares of Python."""

    language = "python"

    def __init__(self, request: PinRequest, target: Target, supply: Supply) -> None:
        super().__init__(request, target)
        self.target = target
        self.supply = supply
        self._other_runtimes: set[str] = set()

    # ---- what is asked for

    def _applying(self, needs: Iterable[Need]) -> list[Need]:
        """The needs whose markers hold for the target."""
        return [need for need in needs if applies(requirement_of(need), self.target.markers)]

    @property
    def needs(self) -> list[Need]:
        return self._applying(super().needs)

    @property
    def declared_limits(self) -> list[Need]:
        return self._applying(super().declared_limits)

    def wish_of(self, need: Need, *, any_version: bool = False) -> Wish:
        return wish_of(requirement_of(need), need.where, any_version=any_version)

    def policy(self, *, without_override: str = "", keep: bool = True) -> Policy:
        """What may be chosen, by the declaration, the options and what is pinned."""
        own = [*self.needs, *self.declared_limits]
        overrides = [one for one in self.overrides.values() if one.name != without_override]
        settled = {one.name: self._overriding(one) for one in overrides}
        for need in own:
            if requirement_of(need).url and need.name not in settled:
                settled[need.name] = _settled(self.supply.reference(requirement_of(need)))
        kept = self._kept(settled) if keep else {}
        exactly = exact(own)
        for name, one in [*settled.items(), *kept.items()]:
            if one.cached is None:  # its file may have been withdrawn since
                exactly.setdefault(name, set()).add(one.version)
        return Policy(
            prereleases={need.name for need in own if names_prerelease(requirement_of(need).specifier)},
            exact=exactly,
            sha256=self.request.declaration.sha256_of("python"),
            as_of=self.request.options.as_of or self.request.declaration.as_of,
            no_builds=self.request.options.no_builds,
            forced={one.name for one in overrides},
            pinned=kept,
            settled=settled,
        )

    def _overriding(self, override: Override) -> Settled:
        return Settled(Version(override.version)) if override.version else _settled(self.supply.override(override))

    def _kept(self, settled: Collection[str]) -> dict[str, Settled]:
        """What is pinned already, where it is not to be chosen anew."""
        kept: dict[str, Settled] = {}
        for package in self.staying(settled):
            try:
                found = Settled(Version(package.version), cached.of_package(self.request.cache, package))
            except InvalidVersion:
                continue
            if found.cached or self.supply.indexes.indexes:
                kept[package.name] = found
        return kept

    # ---- resolving

    def candidates(self, *, without_override: str = "", keep: bool = True) -> Candidates:
        return self._of(self.policy(without_override=without_override, keep=keep))

    def with_wheels(self) -> str:
        """The newest runtime of this machine that has a wheel of all that was to be built, and that the project allows:
        ``3.9``; "" where there is none."""
        if not self._other_runtimes:
            return ""
        allowed = self.request.declaration.allows_runtime
        short = (
            ".".join(one.version.split(".")[:2]) for one in runtimes.on_machine() if allowed("python", one.version)
        )
        return next((one for one in short if one in self._other_runtimes), "")

    def _of(self, policy: Policy) -> Candidates:
        return Candidates(self.supply.indexes, self.target, policy, self.supply, self.supply.reporter)

    def solve(self, market: Candidates) -> dict[str, Version]:
        return solve(market, self.roots(), self.limits())

    def plan(self) -> LanguagePlan:
        """Resolve; see `lapidar.core.pinning.session.LanguagePinning.plan`."""
        with progress.task(self.supply.reporter, "Asking the indexes", 0, "answers"):
            candidates, answer = self._resolved()
        choices = {name: _choice(name, version, candidates) for name, version in answer.items() if "[" not in name}
        built = {name: told for name, version in answer.items() if (told := candidates.to_build(name, version))}
        builds = list(built.values())
        wheels = [candidates.wheels_for(name, answer[name]) for name in built]
        self._other_runtimes = set.intersection(*wheels) if wheels else set()
        plan = self._plan(choices, [*candidates.notes, *_newer_sources(candidates, answer)], self.effects(answer))
        return replace(plan, builds=tuple(builds))

    def _resolved(self) -> tuple[Candidates, dict[str, Version]]:
        """The answer, and the universe that it was found in: the smallest that has one.

        Where all that is pinned can stay, no page of it is looked at; and what would have to be built is looked at
        where nothing that is built can do.
        """
        policy = self.policy()
        if policy.pinned:
            candidates = self._of(replace(policy, built_first=True, kept_alone=True))
            self._require_overrides(candidates)
            if answer := solve_at_once(candidates, self.roots(), self.limits()):
                return candidates, answer
        candidates = self._of(replace(policy, built_first=True))
        self._require_overrides(candidates)
        try:
            return candidates, self.solve(candidates)
        except Conflict:
            if not candidates.has_more:
                raise
            candidates = self._of(policy)
            return candidates, self.solve(candidates)

    def plan_of(self, found: Mapping[str, CachedPackage | File]) -> LanguagePlan:
        """A plan of packages that were chosen elsewhere."""
        files = {name: one for name, one in found.items() if isinstance(one, File)}
        chosen = {name: one for name, one in found.items() if isinstance(one, CachedPackage)}
        chosen |= zip(files, self.supply.many(list(files.values())), strict=True)
        return self._plan({name: Choice(one.metadata, one, None) for name, one in chosen.items()}, (), ())

    def _plan(
        self, choices: dict[str, Choice], notes: Iterable[str], effects: tuple[OverrideStanding, ...]
    ) -> LanguagePlan:
        previous = self.request.previous
        remainders = previous.remainders if previous else ()
        rest = [one for one in remainders if one.language == "python"]
        notes = [*notes, *(f"files of no package are not pinned, and go: {', '.join(one.paths)}" for one in rest)]
        files = [choice.file for choice in choices.values() if choice.file]
        missing = [file for file in files if self.supply.made(file) is None]
        return LanguagePlan(
            choices=choices,
            changes=tuple(self.changes(choices)),
            notes=tuple(notes),
            fetch_files=len(missing),
            fetch_bytes=sum(file.bytes or 0 for file in missing),
            overrides=effects,
        )

    def _require_overrides(self, candidates: Candidates) -> None:
        settled = candidates.policy.settled.items()
        self.require_versions_of_overrides(candidates, {name: one.version for name, one in settled if not one.cached})


def _newer_sources(candidates: Candidates, answer: Mapping[str, Version]) -> Iterator[str]:
    """Where a newer version is there that would have to be built, a sentence each."""
    for name, version in answer.items():
        if "[" in name or name in candidates.policy.settled or name in candidates.policy.pinned:
            continue
        newest = next((one for one in candidates.releases(name) if not one.reason), None)
        if newest and newest.version > version and not newest.is_built:
            yield (
                f"{name} {newest.version} is newer than {version}, and would have to be built from its source: "
                f"ask for it where it is meant, lapidar need '{name}>={newest.version}'"
            )


def _choice(name: str, version: Version, candidates: Candidates) -> Choice:
    metadata = candidates.metadata(name, version)
    assert metadata is not None, "what is chosen has metadata"
    found = candidates.cached(name, version)
    return Choice(metadata, found, None if found else candidates.file(name, version))


def _settled(found: CachedPackage) -> Settled:
    return Settled(found.version, found)
