"""What lies below the packages of an environment: system libraries, outside programs, conditions. A part of the
capture's flow."""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import msgspec

from lapidar.core.cache.seen import Seen
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import Draft, Stowed, stow
from lapidar.core.declaring import reading
from lapidar.core.declaring.records import Declaration
from lapidar.core.environment import marker
from lapidar.core.errors import DeclarationError
from lapidar.core.languages.python import packages, runtime
from lapidar.core.languages.python.probe import Answer
from lapidar.core.languages.python.scope import Used
from lapidar.core.layers import conditions, libraries, tools
from lapidar.core.layers.libraries import Object, Request
from lapidar.core.progress import Progress
from lapidar.core.project import Project
from lapidar.core.records.snapshot import LIBRARIES, Conditions
from lapidar.core.system import companions, locales
from lapidar.core.system.memory import ElfMemory
from lapidar.core.system.observed import Observed

__all__ = ["Below", "observe"]

_PROJECT, _RUN = "the project", "an observed run"
_SHOWN = 3
# Where data of the machine lies that a run may read, and what of it the libraries' layer has.
_DATA_FOLDERS = ("/usr/share/", "/usr/local/", "/opt/", "/var/lib/", "/home/", "/srv/")
_HELD_DATA = ("/usr/share/zoneinfo/", "/usr/share/tcltk/", "/usr/share/terminfo/", "/usr/share/locale/")


@dataclass(frozen=True, slots=True)
class Below:
    """The layers below the packages, as found."""

    libraries: libraries.Observed
    tools: tools.Observed
    here: Conditions
    problems: tuple[str, ...] = ()

    @property
    def conditions(self) -> Conditions:
        """The conditions, with the libraries that cannot travel."""
        return msgspec.structs.replace(self.here, host=tuple(sorted(self.libraries.host)) or self.here.host)

    @property
    def warnings(self) -> tuple[str, ...]:
        """What the user should know, a sentence each."""
        missing = []
        for one in self.libraries.missing:
            files = ", ".join(os.path.basename(path) for path in one.needed_by[:_SHOWN])
            more = f" and {len(one.needed_by) - _SHOWN} more" if len(one.needed_by) > _SHOWN else ""
            where = f"; the system's package {one.owner} has such a file elsewhere" if one.owner else ""
            missing.append(f"{one.name} is nowhere on this machine, and {files}{more} needs it{where}")
        return (*self.problems, *self.libraries.notes, *missing, *self.tools.warnings)

    def stow(self, cache: Cache, reporter: Progress) -> dict[str, Stowed]:
        """Stow the files of libraries and tools. What was read of them is remembered for all environments."""
        drafts = {tool.label: tool.drafts for tool in self.tools.tools}
        if self.libraries.drafts:
            drafts[LIBRARIES] = self.libraries.drafts
        if not drafts:
            return {}
        seen = Seen.of_system(cache.root / "seen")
        stowed = stow(cache, drafts, seen, reporter)
        seen.save()
        return stowed

    def records(self, stowed: dict[str, Stowed]) -> dict[str, Any]:
        """The records of a snapshot, by their fields' names."""
        layer, found = self.libraries.records(stowed[LIBRARIES]) if LIBRARIES in stowed else (None, ())
        return {
            "libraries": layer,
            "library": found,
            "tools": [tool.record(stowed[tool.label]) for tool in self.tools.tools],
            "conditions": self.conditions,
        }


def observe(
    project: Project,
    cache: Cache,
    answer: Answer,
    base: runtime.Observed,
    found: packages.Observed,
    used: Used,
    observed: Observed | None,
) -> Below:
    """Observe the layers below the packages.

    Args:
        base, found: the layers above, as found.
        used: what the project's source names.
        observed: what a run of the analysis was seen to use.
    """
    environment = Path(answer.prefix)
    try:
        declaration, problems = reading.read(project), []
    except DeclarationError as error:
        declaration, problems = Declaration(), [f"{error}; what is declared of tools and conditions was not heeded"]
    mark = marker.read(environment)
    private = mark is not None and mark.libraries == "private"
    outside = _outside(observed, answer, project) if observed else []
    programs = [path for path in observed.executed if _is_outside(path, answer, project)] if observed else []
    tools_found = tools.observe(
        declaration.tools, [*used.programs, *programs], environment, tools.kept(environment) if private else ()
    )
    here = conditions.observe(declaration.conditions, conditions.kept(environment) if mark else None)
    memory = ElfMemory(cache.root / "seen", answer.prefix)
    requests = [Request(_PROJECT, name) for name in used.libraries] + [
        Request(_RUN, path) for path in outside if "/gconv/" not in path
    ]
    library_path = [folder for folder in os.environ.get("LD_LIBRARY_PATH", "").split(":") if folder]
    libraries_found = libraries.observe(
        _program(base),
        answer.prefix,
        [*_objects(base, found), *(one for tool in tools_found.tools for one in tool.objects())],
        memory,
        requests=requests,
        data=[*locales.drafts(locales.named(here.variables), companions.LOCALES), *_character_sets(outside)],
        library_path=library_path,
    )
    memory.save()
    if observed:
        problems += _unheld(observed, answer, project, tools_found)
    return Below(libraries_found, tools_found, here, tuple(problems))


def _program(base: runtime.Observed) -> str:
    return next(draft.source for draft in base.drafts if draft.path == base.executable)


def _objects(base: runtime.Observed, found: packages.Observed) -> Iterator[Object]:
    """The files of runtime and packages, with the paths that they get in a restored environment."""
    for draft in base.drafts:
        if not draft.link:
            yield Object(libraries.RUNTIME, draft.source, runtime.place_of(base, draft.path))
    several = [(package.metadata.name, package.drafts) for package in found.packages]
    for name, drafts in [*several, ("files of no package", found.remainder)]:
        for draft in drafts:
            if not draft.link and draft.source:
                yield Object(name, draft.source, packages.place_of(base, draft.path))


def _is_outside(path: str, answer: Answer, project: Project) -> bool:
    """Whether a file is neither of the environment, nor of the project."""
    inside = (answer.prefix, answer.base_prefix if answer.base_prefix != "/usr" else answer.prefix, str(project.root))
    return path != answer.process and not any(path.startswith(folder.rstrip("/") + "/") for folder in inside)


def _outside(observed: Observed, answer: Answer, project: Project) -> list[str]:
    """The libraries that a run mapped from outside the environment."""
    return [path for path in observed.mapped if ".so" in path and _is_outside(path, answer, project)]


def _unheld(observed: Observed, answer: Answer, project: Project, held: tools.Observed) -> Iterator[str]:
    """Data that a run read, and that is in no layer."""
    have = {draft.source for tool in held.tools for draft in tool.drafts}
    paths = [
        path
        for path in observed.opened
        if path.startswith(_DATA_FOLDERS)
        and not path.startswith(_HELD_DATA)
        and ".so" not in os.path.basename(path)
        and path not in have
        and _is_outside(path, answer, project)
    ]
    if paths:
        shown = ", ".join(paths[:_SHOWN]) + (f" and {len(paths) - _SHOWN} more" if len(paths) > _SHOWN else "")
        yield f"the run read files that are in no layer of the snapshot: {shown}"


def _character_sets(paths: list[str]) -> Iterator[Draft]:
    """Modules of the C library for character sets, which lie in a folder of their own."""
    for path in paths:
        if "/gconv/" in path:
            yield Draft(f"gconv/{os.path.basename(path)}", path)
