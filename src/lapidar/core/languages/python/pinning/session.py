"""One session with Python's indexes, for a project: see `lapidar.core.pinning.session.LanguagePinning`."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

from packaging.utils import canonicalize_name

from lapidar.core.errors import Conflict
from lapidar.core.languages.python.building.build import BuildFailed
from lapidar.core.languages.python.index.indexes import Indexes
from lapidar.core.languages.python.pinning import base, cached, record
from lapidar.core.languages.python.pinning.cached import CachedPackage
from lapidar.core.languages.python.pinning.decide import Choice, Decider
from lapidar.core.languages.python.pinning.supply import Supply
from lapidar.core.languages.python.pinning.target import Target
from lapidar.core.languages.python.standards.metadata import Metadata
from lapidar.core.pinning.deciding import OneSession
from lapidar.core.pinning.session import LanguagePlan, PinRequest
from lapidar.core.records.snapshot import LanguageParts, Package, Snapshot

__all__ = ["PythonPinning", "opened"]


class PythonPinning(OneSession):
    """The session."""

    def __init__(self, request: PinRequest, target: Target, indexes: Indexes, supply: Supply, decider: Decider) -> None:
        super().__init__(request, target, supply, decider)
        self.indexes = indexes

    def plan_of_file(self, path: Path) -> LanguagePlan:
        from lapidar.core.languages.python.exchange import pylock

        plan: LanguagePlan = self.decider.plan_of(pylock.found_in(path, self.target, self.supply))
        return plan

    def archives(self, folder: Path, to: Path, held: Sequence[str]) -> tuple[list[Path], Snapshot | None]:
        self.supply.workplace.held = tuple(held)
        made: tuple[list[Path], Snapshot] = self.supply.archives(folder, to)
        return made

    def built_again(self, packages: Sequence[Package]) -> list[Package]:
        return [self._built_again(package) for package in packages]

    def _built_again(self, package: Package) -> Package:
        was = cached.of_package(self.request.cache, package)
        self.supply.workplace.held = package.built_with
        now = self.supply.named(package.name, f"./{package.origin.path}")
        if was and _normalised(was.metadata) != _normalised(now.metadata):
            raise self.other_needs(package)
        return self.as_built(package, now.metadata.version, now)

    def carry_out(self, plan: LanguagePlan) -> LanguageParts:
        choices = {name: choice for name, choice in plan.choices.items() if isinstance(choice, Choice)}
        files = {name: choice.file for name, choice in choices.items() if choice.file}
        try:
            brought = dict(zip(files, self.supply.many(list(files.values())), strict=True))
        except (BuildFailed, Conflict) as error:
            if runtime := self.decider.with_wheels():
                error.remedy = f"`lapidar pin --runtime {runtime}`, which is here, needs no building. {error.remedy}"
            raise
        chosen = {name: choice.cached or brought[name] for name, choice in choices.items()}
        _require_as_guessed(choices, brought)
        records = record.packages(self.request.cache, self.target, chosen, self.decider.needs)
        return LanguageParts(self.target.runtime, records, ())


def _normalised(metadata: Metadata) -> set[str]:
    """Its needs, each in one spelling."""
    return {
        f"{canonicalize_name(one.name)} {sorted(one.extras)} {one.specifier} {one.url} {one.marker}"
        for one in metadata.requirements()
    }


def _require_as_guessed(choices: Mapping[str, Choice], brought: Mapping[str, CachedPackage]) -> None:
    """What was built must need what was taken for its needs before.

    Raises:
        Conflict: it does not.
    """
    for name, held in brought.items():
        if _normalised(held.metadata) != _normalised(choices[name].metadata):
            raise Conflict(
                f"{name} {held.metadata.version}, built from its source, needs other things than was expected",
                why="its needs were taken from a wheel of it for another platform, or from its source as it lies there",
                remedy="Say it again: what it needs is known now. Nothing was changed.",
            )


@contextmanager
def opened(request: PinRequest) -> Iterator[PythonPinning]:
    """Begin a session.

    Raises:
        Conflict: the runtime is not one that the project declares.
        EnvironmentUnusable: there is none.
    """
    cache, options = request.cache, request.options
    with Indexes(request.declaration.indexes, cache) as indexes, cache.in_use():
        target = base.find(request)
        supply = Supply(request.place, cache, indexes, target, request.reporter, no_builds=options.no_builds)
        yield PythonPinning(request, target, indexes, supply, Decider(request, target, supply))
