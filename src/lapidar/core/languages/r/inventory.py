"""What was found of R in an environment: runtime and packages, with the records that come of them."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from types import MappingProxyType

from msgspec import Struct
from msgspec.structs import replace

from lapidar.core.cache.stowing import Draft, FileDraft, Stowed
from lapidar.core.environment import marker
from lapidar.core.environment.explained import Explained
from lapidar.core.environment.folder import Environment
from lapidar.core.languages.protocol import ObjectFile
from lapidar.core.languages.r import packages, placing, runtime
from lapidar.core.languages.r.packages import PackagesFound
from lapidar.core.languages.r.probe import Answer
from lapidar.core.languages.r.runtime import RuntimeFound
from lapidar.core.place import Place
from lapidar.core.records.owner import Owner
from lapidar.core.records.snapshot import LanguageParts

__all__ = ["RInventory", "observe", "runtime_of"]

_NO_STATUSES: Mapping[str, os.stat_result] = MappingProxyType({})
_LIBC = re.compile(rb"GNU C Library [^\n]{0,80}?version (\d+\.\d+)")
# What a session of R reads in the folder where it is started; none of it is the snapshot's.
_OF_SESSIONS = {
    ".Rprofile": "R_PROFILE_USER",
    ".Renviron": "R_ENVIRON_USER",
    ".RData": "",
}


class RInventory(Struct, frozen=True):
    """See `lapidar.core.languages.protocol.Inventory`.

    Attributes:
        environment: the folder that R lies in.
    """

    answer: Answer
    environment: Environment
    base: RuntimeFound
    found: PackagesFound
    place: Path

    @property
    def language(self) -> str:
        return "r"

    @property
    def prefix(self) -> str:
        return str(self.environment.folder)

    @property
    def own_folders(self) -> tuple[str, ...]:
        if self.environment.is_ours:
            return (self.prefix,)
        return _folders(self.answer)

    @property
    def program(self) -> str:
        return next(
            draft.source
            for draft in self.base.drafts
            if isinstance(draft, FileDraft) and draft.path == placing.EXECUTABLE
        )

    @property
    def process(self) -> str:
        return self.program

    @property
    def libc(self) -> str:
        """That of a restored environment may be another than this system's."""
        try:
            found = _LIBC.search((self.environment.private_folder / "libc.so.6").read_bytes())
        except OSError:
            return ""
        return f"glibc {found[1].decode()}" if found and self.environment.is_private else ""

    @property
    def library_folders(self) -> Mapping[str, str]:
        own = {f"{self.answer.home}/lib": f"{placing.HOME}/lib"}
        return own if self.environment.is_ours else {**own, **dict.fromkeys(self.answer.searched, "")}

    @property
    def left_out(self) -> Sequence[str]:
        return self.base.left_out

    @property
    def notes(self) -> Sequence[str]:
        return (*self.base.notes, *self.found.notes)

    @property
    def warnings(self) -> Sequence[str]:
        told = [self.answer.warning] if self.answer.warning else []
        for name, variable in _OF_SESSIONS.items():
            if (self.place / name).exists():
                told.append(_not_read(name, variable))
        return (*told, *self.found.warnings)

    @property
    def statuses(self) -> Mapping[str, os.stat_result]:
        return _NO_STATUSES

    def drafts(self) -> Mapping[Owner, Sequence[Draft]]:
        drafts: dict[Owner, Sequence[Draft]] = {self.base.owner: self.base.drafts}
        return drafts | {package.owner: package.drafts for package in self.found.packages}

    def files(self) -> Iterator[ObjectFile]:
        for draft in self.base.drafts:
            if isinstance(draft, FileDraft):
                yield ObjectFile(self.base.owner, draft.source, placing.of_runtime(draft.path))
        for package in self.found.packages:
            for draft in package.drafts:
                if isinstance(draft, FileDraft):
                    yield ObjectFile(package.owner, draft.source, placing.of_package(package.name, draft.path))

    def records(self, stowed: Mapping[Owner, Stowed]) -> LanguageParts:
        needs = self.found.needs
        needed = {target for targets in needs.values() for target in targets}
        records = [
            package.record(stowed[package.owner], needs[package.name], is_root=package.name not in needed)
            for package in self.found.packages
        ]
        ordered = tuple(sorted(records, key=lambda package: package.name))
        return LanguageParts(self.base.record(stowed[self.base.owner]), ordered, ())

    def edited(self, stowed: Mapping[Owner, Stowed]) -> dict[str, list[str]]:
        """R keeps no list of a package's files to hold them against."""
        return {}

    def with_warnings(self, warnings: Sequence[str]) -> RInventory:
        """The same, with more to tell."""
        return replace(self, found=replace(self.found, warnings=[*self.found.warnings, *warnings]))


def _not_read(name: str, variable: str) -> str:
    told = f"the project's {name} is no part of the snapshot, and is not read in its environment"
    if not variable:
        return f"{told}: save what the analysis needs of it as a file that it reads"
    return f'{told}; if it is meant to be, write {variable} = "{name}" into [conditions.env] of lapidar.toml'


def _folders(answer: Answer) -> tuple[str, ...]:
    """All folders whose files are R's own."""
    settings = os.path.dirname(os.path.realpath(f"{answer.home}/etc/ldpaths"))
    return tuple(dict.fromkeys((answer.home, answer.share, answer.include, answer.doc, settings, *answer.libraries)))


def observe(answer: Answer, place: Place, *, full_runtime: bool) -> RInventory:
    """Find what an environment has.

    Raises:
        EnvironmentUnusable, PackageBroken: it cannot be captured as it is.
    """
    environment = _environment(answer)
    explained = _explained(answer, place)
    base = runtime.observe(answer, environment, explained, full=full_runtime)
    found = packages.observe(answer, base.own, explained, environment)
    return RInventory(answer, environment, base, found, place.root)


def runtime_of(answer: Answer, place: Place) -> RuntimeFound:
    """The runtime alone."""
    return runtime.observe(answer, _environment(answer), _explained(answer, place))


def _explained(answer: Answer, place: Place) -> Explained:
    return Explained((*_folders(answer), str(place.root), str(_environment(answer).folder)))


def _environment(answer: Answer) -> Environment:
    """The environment that R lies in: a restored one, or the prefix that its front end is below."""
    restored = Path(answer.home.removesuffix(f"/{placing.HOME}"))
    if (restored / marker.FILE_NAME).is_file():
        return Environment(restored)
    front_end = answer.front_end.parent
    return Environment(front_end.parent if front_end.name == "bin" else Path(answer.home))
