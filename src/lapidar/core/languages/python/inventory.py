"""What was found of Python in an environment: runtime and packages, with the records that come of them."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from msgspec import Struct

from lapidar.core.cache.stowing import DISK_DRAFTS, Draft, FileDraft, Stowed
from lapidar.core.languages.protocol import ObjectFile
from lapidar.core.languages.python import placing, remembered, runtime, shipped
from lapidar.core.languages.python.packages import PackagesFound, site_paths
from lapidar.core.languages.python.probe import Answer
from lapidar.core.languages.python.runtime import RuntimeFound
from lapidar.core.languages.python.standards.metadata import needed
from lapidar.core.place import Place
from lapidar.core.records.owner import Layer, Owner
from lapidar.core.records.snapshot import LanguageParts, Package, Remainder

__all__ = ["PythonInventory", "observe"]


class PythonInventory(Struct, frozen=True):
    """See `lapidar.core.languages.protocol.Inventory`."""

    answer: Answer
    base: RuntimeFound
    found: PackagesFound

    @property
    def language(self) -> str:
        return "python"

    @property
    def prefix(self) -> str:
        return self.answer.prefix

    @property
    def own_folders(self) -> tuple[str, ...]:
        folders = []
        for prefix in (self.answer.prefix, self.answer.base_prefix):
            # What lies elsewhere below the system's own prefix is not the interpreter's.
            folders += [*self.answer.stdlib, *site_paths(self.answer)] if prefix == shipped.PREFIX else [prefix]
        return tuple(dict.fromkeys(folders))

    @property
    def program(self) -> str:
        return next(
            draft.source
            for draft in self.base.drafts
            if isinstance(draft, FileDraft) and draft.path == self.base.executable
        )

    @property
    def process(self) -> str:
        return self.answer.process

    @property
    def libc(self) -> str:
        return self.answer.libc

    @property
    def library_folders(self) -> Mapping[str, str]:
        return {}

    @property
    def left_out(self) -> Sequence[str]:
        return self.base.left_out

    @property
    def notes(self) -> Sequence[str]:
        return (*self.base.notes, *self.found.notes)

    @property
    def warnings(self) -> Sequence[str]:
        added = os.environ.get("PYTHONPATH")
        of_shell = [f"PYTHONPATH is set here; what it adds ({added}) is not captured"] if added else []
        return (*of_shell, *self.found.warnings)

    @property
    def statuses(self) -> Mapping[str, os.stat_result]:
        return self.found.statuses

    @property
    def _remainder(self) -> Owner:
        return Owner(Layer.REMAINDER, self.language)

    def drafts(self) -> Mapping[Owner, Sequence[Draft]]:
        drafts: dict[Owner, Sequence[Draft]] = {self.base.owner: self.base.drafts}
        drafts |= {package.owner: package.drafts for package in self.found.packages}
        if self.found.remainder:
            drafts[self._remainder] = self.found.remainder
        return drafts

    def files(self) -> Iterator[ObjectFile]:
        for draft in self.base.drafts:
            if isinstance(draft, FileDraft):
                path = placing.of_runtime(self.base.executable, draft.path)
                yield ObjectFile(self.base.owner, draft.source, path)
        several = [(package.owner, package.drafts) for package in self.found.packages]
        for owner, drafts in [*several, (self._remainder, self.found.remainder)]:
            for draft in drafts:
                if isinstance(draft, DISK_DRAFTS):
                    yield ObjectFile(owner, draft.source, placing.of_package(self.base.places, draft.path))

    def records(self, stowed: Mapping[Owner, Stowed]) -> LanguageParts:
        remainders = tuple(self._remainder_record(stowed[self._remainder]) for _ in self.found.remainder[:1])
        return LanguageParts(self.base.record(stowed[self.base.owner]), self._packages(stowed), remainders)

    def _packages(self, stowed: Mapping[Owner, Stowed]) -> tuple[Package, ...]:
        found = self.found.packages
        requested = {package.metadata.name for package in found if package.requested}
        extras = {package.metadata.name: package.facts.extras for package in found}
        needs = needed([package.metadata for package in found], self.answer.markers, requested, extras)
        # Where no installer wrote down what was asked for, it is what nothing else needs.
        wanted = requested or set(needs) - {target for targets in needs.values() for target in targets}
        records = [
            package.record(stowed[package.owner], needs[package.metadata.name], wanted=package.metadata.name in wanted)
            for package in found
        ]
        return tuple(sorted(records, key=lambda package: package.name))

    def _remainder_record(self, stowed: Stowed) -> Remainder:
        """The record of what belongs to no package."""
        tree = stowed.tree
        top = {entry.path.split("/")[1] for entry in tree}
        return Remainder(self.language, tree.digest, len(tree), tree.total_bytes, tuple(sorted(top)))

    def edited(self, stowed: Mapping[Owner, Stowed]) -> dict[str, list[str]]:
        edited = {one.metadata.name: one.edited(stowed[one.owner]) for one in self.found.packages}
        return {name: files for name, files in edited.items() if files}


def observe(
    answer: Answer, place: Place, *, full_runtime: bool, skip_outside: bool, short_cuts: Path | None = None
) -> PythonInventory:
    """Find what an environment has.

    Args:
        answer: what its interpreter said.
        short_cuts: the folder of the cache that keeps what was observed before, where that may be used.

    Raises:
        EnvironmentUnusable, PackageBroken: it cannot be captured as it is.
    """
    found = remembered.observe(answer, place, skip_outside=skip_outside, folder=short_cuts)
    base = runtime.observe(answer, found.claimed, full=full_runtime)
    return PythonInventory(answer, base, found)
