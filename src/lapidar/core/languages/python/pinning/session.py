"""Pin: declared needs -> exact packages that fit together -> cache and lockfile."""

from __future__ import annotations

import datetime
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from types import TracebackType

from packaging.requirements import Requirement
from packaging.utils import canonicalize_name
from packaging.version import InvalidVersion, Version

from lapidar.core.cache.history import History
from lapidar.core.cache.store import Cache
from lapidar.core.declaring.records import Declaration, Need, Override
from lapidar.core.errors import Conflict, LapidarError
from lapidar.core.languages.python.building.build import Builder
from lapidar.core.languages.python.index.indexes import Indexes
from lapidar.core.languages.python.index.page import File
from lapidar.core.languages.python.pinning import base, held
from lapidar.core.languages.python.pinning.candidates import Candidates, Policy, Settled, names_prerelease, wish_of
from lapidar.core.languages.python.pinning.held import Held
from lapidar.core.languages.python.pinning.supply import Supply
from lapidar.core.languages.python.pinning.target import Target
from lapidar.core.languages.python.standards.metadata import Metadata, applies, needed
from lapidar.core.layers import carried as carry
from lapidar.core.pinning import explain
from lapidar.core.pinning.solver import Solver, Unsolvable, Wish
from lapidar.core.progress import Progress, Silent
from lapidar.core.project import Project
from lapidar.core.records import lockfile
from lapidar.core.records.snapshot import Package, Snapshot

__all__ = ["Change", "Options", "Pinned", "Pinning", "Plan"]


@dataclass(frozen=True, slots=True)
class Options:
    """How to pin.

    Attributes:
        renew: names whose pinned version is not kept; `renew_all` keeps none.
        as_of: nothing that came later than this day.
        wheels_only: nothing that would have to be built.
        runtime: the interpreter whose runtime is meant, where not the lockfile's.
    """

    renew: Collection[str] = ()
    renew_all: bool = False
    as_of: datetime.date | None = None
    wheels_only: bool = False
    runtime: Path | None = None


@dataclass(frozen=True, slots=True)
class Change:
    """What a pin changes: a package that comes, goes, or becomes another version."""

    name: str
    old: str
    new: str

    @property
    def kind(self) -> str:
        """``added``, ``removed``, ``newer``, ``older`` or ``replaced`` (the same version of other bytes)."""
        if not self.old or not self.new:
            return "added" if self.new else "removed"
        try:
            old, new = Version(self.old), Version(self.new)
        except InvalidVersion:
            return "replaced"
        return "newer" if new > old else "older" if new < old else "replaced"


@dataclass(frozen=True, slots=True)
class _Choice:
    """A chosen version, and either what is held of it or the file to fetch."""

    metadata: Metadata
    held: Held | None
    file: File | None


@dataclass(frozen=True, slots=True)
class Plan:
    """What would be pinned. Nothing is written yet but bytes in the cache.

    Attributes:
        changes: against the lockfile that there is, sorted by name.
        notes: what was passed over, a sentence each.
        fetch_bytes: what is to be fetched, as far as the index tells.
        overrides: how each override acts, by name.
    """

    target: Target
    choices: dict[str, _Choice]
    changes: tuple[Change, ...]
    notes: tuple[str, ...]
    fetch_files: int
    fetch_bytes: int
    overrides: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Pinned:
    """What came of a pin; `notes` are about the layers below the packages, a sentence each."""

    snapshot: Snapshot
    changed: bool
    notes: tuple[str, ...] = ()


class Pinning:
    """One session with the indexes, for a project.

    Args:
        declaration: what is to be met; that of the project's files, or one that is about to be written.
        previous: the lockfile that there is.
    """

    def __init__(
        self,
        project: Project,
        cache: Cache,
        declaration: Declaration,
        previous: Snapshot | None,
        options: Options | None = None,
        reporter: Progress | None = None,
    ) -> None:
        self.project = project
        self.cache = cache
        self.declaration = declaration
        self.previous = previous
        self.options = options or Options()
        self.reporter = reporter or Silent()
        self.indexes = Indexes(declaration.indexes, cache)
        self._using = cache.in_use()

    def __enter__(self) -> Pinning:
        self._using.__enter__()
        self.target = base.find(
            self.project, self.cache, self.declaration, self.previous, self.options.runtime, self.reporter
        )
        builder = Builder(self.cache, self.target.runtime, self._workplace, self.project)
        self.supply = Supply(self.project, self.cache, self.indexes, builder, self.reporter)
        self._building: list[str] = []
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.indexes.close()
        self._using.__exit__(kind, error, trace)

    # ---- what is asked for

    def _applying(self, needs: Iterable[Need]) -> list[Need]:
        return [need for need in needs if applies(need.requirement, self.target.markers)]

    def roots(self, *, without_override: str = "") -> list[Wish]:
        """What the project asks for."""
        forced = set(self.declaration.overrides) - {without_override}
        return [
            wish_of(need.requirement, need.where, any_version=need.name in forced)
            for need in self._applying(self.declaration.needs)
        ]

    def limits(self) -> list[Wish]:
        """What it only limits."""
        return [
            wish_of(need.requirement, need.where)
            for need in self._applying(self.declaration.limits)
            if need.name not in self.declaration.overrides
        ]

    def policy(self, *, without_override: str = "", keep: bool = True) -> Policy:
        """What may be chosen, by the declaration, the options and what is pinned."""
        own = self._applying([*self.declaration.needs, *self.declaration.limits])
        overrides = [one for one in self.declaration.overrides.values() if one.name != without_override]
        settled = {one.name: self._overriding(one) for one in overrides}
        for need in own:
            if need.requirement.url and need.name not in settled:
                settled[need.name] = _settled(self.supply.reference(need.requirement))
        kept = self._kept(settled) if keep else {}
        exact = _exact(own)
        for name, one in [*settled.items(), *kept.items()]:
            if one.held is None:  # its file may have been withdrawn since
                exact.setdefault(name, set()).add(one.version)
        return Policy(
            prereleases={need.name for need in own if names_prerelease(need.requirement.specifier)},
            exact=exact,
            sha256=self.declaration.sha256,
            as_of=self.options.as_of,
            wheels_only=self.options.wheels_only,
            forced={one.name for one in overrides},
            kept=kept,
            settled=settled,
        )

    def _overriding(self, override: Override) -> Settled:
        return Settled(Version(override.version)) if override.version else _settled(self.supply.override(override))

    def _kept(self, settled: Collection[str]) -> dict[str, Settled]:
        """What is pinned already, where it is not to be chosen anew."""
        kept: dict[str, Settled] = {}
        if self.previous is None or self.options.renew_all or self.options.as_of:
            return kept
        if self.target.runtime.version.split(".")[:2] != self.previous.only_runtime.version.split(".")[:2]:
            return kept
        for package in self.previous.package:
            if package.name in self.options.renew or package.name in settled:
                continue
            try:
                found = Settled(Version(package.version), held.of_package(self.cache, package))
            except InvalidVersion:
                continue
            if found.held or self.indexes.indexes:
                kept[package.name] = found
        return kept

    # ---- resolving

    def candidates(self, policy: Policy | None = None) -> Candidates:
        """The universe to choose from."""
        return Candidates(self.indexes, self.target, policy or self.policy(), self._metadata_of_source)

    def _metadata_of_source(self, file: File) -> Metadata:
        return self.supply.one(file).metadata

    def plan(self) -> Plan:
        """Resolve.

        Raises:
            Conflict: the needs cannot be met together; it says why.
            IndexTrouble: an index cannot be used.
        """
        candidates = self.candidates()
        self._require_versions_of_overrides(candidates)
        answer = self.solve(candidates)
        choices = {name: self._choice(name, version, candidates) for name, version in answer.items() if "[" not in name}
        effects = {name: self._effect(name, answer) for name in self.declaration.overrides}
        return self._plan(choices, candidates.notes, effects)

    def plan_of(self, found: Mapping[str, Held | File]) -> Plan:
        """A plan of packages that were chosen elsewhere."""
        files = {name: one for name, one in found.items() if isinstance(one, File)}
        helds = {name: one for name, one in found.items() if isinstance(one, Held)}
        helds |= zip(files, self.supply.many(list(files.values())), strict=True)
        return self._plan({name: _Choice(one.metadata, one, None) for name, one in helds.items()}, (), {})

    def _plan(self, choices: dict[str, _Choice], notes: Iterable[str], effects: dict[str, str]) -> Plan:
        rest = self.previous.remainder if self.previous else ()
        notes = [*notes, *(f"files of no package are not pinned, and go: {', '.join(one.paths)}" for one in rest)]
        files = [choice.file for choice in choices.values() if choice.file]
        missing = [file for file in files if self.supply.made(file) is None]
        return Plan(
            target=self.target,
            choices=choices,
            changes=tuple(self._changes(choices)),
            notes=tuple(notes),
            fetch_files=len(missing),
            fetch_bytes=sum(file.bytes or 0 for file in missing),
            overrides=effects,
        )

    def _require_versions_of_overrides(self, candidates: Candidates) -> None:
        for name, settled in candidates.policy.settled.items():
            if settled.held:
                continue
            release = next((one for one in candidates.releases(name) if one.version == settled.version), None)
            if release is None or release.file is None:
                raise Conflict(
                    f"The override of {name} asks for {settled.version}, which cannot be had",
                    why=release.reason if release else "no index has this version",
                    remedy=f"`lapidar versions {name}` shows what there is.",
                )

    def solve(self, candidates: Candidates) -> dict[str, Version]:
        """The answer to the project's needs.

        Raises:
            Conflict: there is none.
        """
        return self._solve(candidates, self.roots(), self.limits())

    def _solve(self, candidates: Candidates, roots: Sequence[Wish], limits: Sequence[Wish]) -> dict[str, Version]:
        if roots and not self.indexes.indexes and not candidates.policy.kept and not candidates.policy.settled:
            self.indexes.require_any()
        try:
            return Solver(candidates, roots, limits).solve()
        except Unsolvable as error:
            raise explain.conflict(error.facts, candidates, roots, limits) from error

    def _choice(self, name: str, version: Version, candidates: Candidates) -> _Choice:
        metadata = candidates.metadata(name, version)
        assert metadata is not None, "what is chosen has metadata"
        found = candidates.held(name, version)
        return _Choice(metadata, found, None if found else candidates.file(name, version))

    def _effect(self, name: str, answer: Mapping[str, Version]) -> str:
        """What an override changes: found by resolving without it."""
        override = self.declaration.overrides[name]
        if name not in answer:
            return "changes nothing: the package is not needed"
        if not override.version:
            return f"acts: {override.target} is used"
        candidates = self.candidates(self.policy(without_override=name, keep=False))
        try:
            without = Solver(candidates, self.roots(without_override=name), self.limits()).solve().get(name)
        except Unsolvable:
            return "acts: without it the needs cannot be met together"
        except LapidarError as error:
            return f"acts, as far as can be told ({error.what})"
        if without == answer[name]:
            return "changes nothing any more: the same version would be chosen without it"
        return f"acts: without it {without} would be chosen"

    def _changes(self, choices: Mapping[str, _Choice]) -> Iterator[Change]:
        old = {package.name: package for package in self.previous.package} if self.previous else {}
        for name in sorted({*old, *choices}):
            choice = choices.get(name)
            before = old[name].version if name in old else ""
            after = choice.metadata.version if choice else ""
            other = before == after and choice is not None and not self._same(old[name], choice)
            if before != after or other:
                yield Change(name, before, after)

    def _same(self, package: Package, choice: _Choice) -> bool:
        if choice.held:
            return choice.held.tree == package.tree
        return choice.file is not None and choice.file.sha256 == package.origin.sha256

    # ---- carrying it out

    def carry_out(self, plan: Plan) -> Pinned:
        """Bring what the plan chose into the cache. The lockfile is not written yet; see `write`.

        Raises:
            IndexTrouble, PackageBroken, BuildFailed, NoSpace: nothing has changed for a reader.
        """
        files = {name: choice.file for name, choice in plan.choices.items() if choice.file}
        brought = dict(zip(files, self.supply.many(list(files.values())), strict=True))
        helds = {name: choice.held or brought[name] for name, choice in plan.choices.items()}
        snapshot, notes = carry.below(self.cache, self.declaration, self.snapshot(helds), self.previous, self.reporter)
        before = self.previous.snapshot if self.previous else ""
        return Pinned(snapshot, snapshot.snapshot != before, notes)

    def write(self, pinned: Pinned, lock: Path) -> None:
        """Write the lockfile, and keep a copy in the history."""
        History(self.cache).add(pinned.snapshot, lock.absolute())
        if pinned.changed:
            lockfile.write(pinned.snapshot, lock)

    def snapshot(self, helds: Mapping[str, Held], needs: Sequence[Need] | None = None) -> Snapshot:
        """The snapshot of packages that are held."""
        asked = self._applying(self.declaration.needs if needs is None else needs)
        wanted = {need.name for need in asked if not need.group}
        groups = {need.name: {other.group for other in asked if other.name == need.name} - {""} for need in asked}
        extras: dict[str, set[str]] = {}
        for need in asked:
            extras.setdefault(need.name, set()).update(canonicalize_name(one) for one in need.requirement.extras)
        requested = [name for name in helds if name in wanted or groups.get(name)]
        if not asked:  # taken over from a list that does not tell: what nothing else needs
            targets = needed([one.metadata for one in helds.values()], self.target.markers)
            wanted = set(helds) - {target for several in targets.values() for target in several}
        requires = needed([one.metadata for one in helds.values()], self.target.markers, requested, extras)
        records = []
        for name, one in sorted(helds.items()):
            tree = self.cache.tree(one.tree)
            records.append(
                Package(
                    language="python",
                    name=name,
                    version=one.metadata.version,
                    tree=one.tree,
                    files=len(tree),
                    bytes=tree.total_bytes,
                    requires=requires[name],
                    wanted=name in wanted,
                    origin=one.origin,
                    groups=tuple(sorted(groups.get(name, ()))),
                    extras=tuple(sorted(extras.get(name, ()))),
                    built_with=one.built_with,
                )
            )
        return lockfile.identified(self.target.platform, self.target.runtime, records)

    # ---- building

    def _workplace(self, requirements: Sequence[Requirement], folder: Path) -> Snapshot:
        """Pin what a build needs, and restore it into a folder."""
        from lapidar.core.flows.restore import restore

        needs = [Need(requirement) for requirement in requirements]
        label = ", ".join(sorted(need.text for need in needs)) or "nothing"
        if label in self._building:
            raise LapidarError(
                "Packages need one another to be built",
                why=" needs ".join([*self._building, label]),
                remedy="Use a version that has a wheel (--wheels-only).",
            )
        self._building.append(label)
        try:
            candidates = self.candidates(Policy(exact=_exact(needs)))
            roots = [wish_of(need.requirement, "to be built with") for need in self._applying(needs)]
            answer = self._solve(candidates, roots, [])
            names = [name for name in answer if "[" not in name]
            brought = self.supply.many([candidates.file(name, answer[name]) for name in names])
            snapshot = self.snapshot(dict(zip(names, brought, strict=True)), needs)
            restore(Project(folder.parent), self.cache, snapshot, into=folder)
        finally:
            self._building.pop()
        return snapshot


def _settled(found: Held) -> Settled:
    return Settled(found.version, found)


def _exact(needs: Iterable[Need]) -> dict[str, set[Version]]:
    """The versions that needs pin exactly; only these may be withdrawn ones."""
    found: dict[str, set[Version]] = {}
    for need in needs:
        for one in need.requirement.specifier:
            if one.operator in ("==", "===") and not one.version.endswith(".*"):
                try:
                    found.setdefault(need.name, set()).add(Version(one.version))
                except InvalidVersion:
                    continue
    return found
