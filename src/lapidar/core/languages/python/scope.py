"""What of an environment a project uses: what its source imports or it declares, and all that these need."""

from __future__ import annotations

import importlib.util
import os
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from itertools import islice

from packaging.utils import canonicalize_name

from lapidar.core.cache.store import Cache
from lapidar.core.declaring import reading
from lapidar.core.errors import DeclarationError, LapidarError
from lapidar.core.languages.python import packages
from lapidar.core.languages.python.probe import Answer
from lapidar.core.languages.python.standards.metadata import needed
from lapidar.core.languages.python.survey import sources
from lapidar.core.languages.python.survey.flow import survey
from lapidar.core.project import Project
from lapidar.core.records.selection import closure

__all__ = ["Used", "choose_used"]

_MANY = 3000


@dataclass(frozen=True, slots=True)
class Used:
    """What a project uses of what it runs on.

    Attributes:
        unused: the packages that were taken out, each with the reason.
        programs: outside programs that its source starts.
        libraries: system libraries that its source opens by their names.
    """

    unused: dict[str, str]
    programs: tuple[str, ...] = ()
    libraries: tuple[str, ...] = ()


def choose_used(
    project: Project,
    answer: Answer,
    found: packages.Observed,
    scope: str | None,
    cache: Cache,
    opened: Collection[str] = (),
) -> Used:
    """Take out of what was observed the packages that the project does not use.

    Args:
        found: everything that was observed; what is not used is taken out of it.
        scope: ``used``, ``whole``, or None to decide by what the project has.
        cache: keeps what was read of unchanged sources.
        opened: the files that an observed run opened; a package whose code is among them is used.

    Returns:
        What was taken out, and what else the source names.

    Raises:
        LapidarError: `used` was asked for, and the project neither imports nor declares anything.
    """
    files = list(islice(sources.find(project.root), _MANY + 1 if scope != "used" else None))
    if scope != "used" and len(files) > _MANY:
        if scope is None:
            found.warnings.append(
                f"{project.root} has more than {_MANY:,} source files, too many to be one project: "
                "everything was captured; --scope used chooses all the same"
            )
        return Used({})
    surveyed = survey(project, answer, cache, installed=found, files=files, suggest=False)
    programs, libraries = tuple(surveyed.programs), tuple(surveyed.libraries)
    if scope == "whole" or not found.packages:
        return Used({}, programs, libraries)
    try:
        declared = reading.read(project).needs
    except DeclarationError:
        if scope:
            raise
        declared = ()  # a capture is not to fail for that; the survey's problems tell of it
    roots = surveyed.imported | surveyed.declared | {need.name for need in declared}
    here = {package.metadata.name for package in found.packages}
    ran = set(_run_from(found, opened)) if opened else set()
    if not (roots | ran) & here:
        if scope == "used":
            raise LapidarError(
                "The project uses no package of this environment, as far as its source and its declaration tell",
                remedy="Capture all of it with --scope whole, or name the project with --project.",
            )
        return Used({}, programs, libraries)
    extras = {package.metadata.name: set(package.kept.extras) for package in found.packages}
    for need in declared:
        if need.name in extras:
            extras[need.name] |= {canonicalize_name(extra) for extra in need.requirement.extras}
    # No extra is inferred here: what only an extra needs that nobody declares is not used.
    needs = needed([package.metadata for package in found.packages], answer.markers, (), extras)
    # What was run and is needed by nothing that is asked for (a plugin) counts as asked for.
    roots |= ran - closure(roots & here, needs)
    kept = closure(roots & here, needs)
    unused = {name: _reason(name, needs) for name in sorted(here - kept)}
    found.packages = [package for package in found.packages if package.metadata.name in kept]
    found.warnings += [f"{problem}; what it imports is not known" for problem in surveyed.problems]
    for package in found.packages:
        package.requested = package.metadata.name in roots
    return Used(unused, programs, libraries)


def _run_from(found: packages.Observed, opened: Collection[str]) -> Iterator[str]:
    """The packages whose code is among opened files: byte-code stands for its source."""
    code = {_source(path) for path in opened if path.endswith((".py", ".pyc", ".so"))}
    for package in found.packages:
        for draft in package.drafts:
            if not draft.link and draft.path.endswith((".py", ".so")) and os.path.realpath(draft.source) in code:
                yield package.metadata.name
                break


def _source(path: str) -> str:
    if not path.endswith(".pyc"):
        return path
    try:
        return importlib.util.source_from_cache(path)
    except ValueError:
        return path[:-1]  # beside its source, or no name that a runtime gives


def _reason(name: str, needs: dict[str, tuple[str, ...]]) -> str:
    by = sorted(source for source, targets in needs.items() if name in targets)
    if by:
        shown = ", ".join(by[:3]) + (", ..." if len(by) > 3 else "")
        return f"only needed by {shown}, which is left out too"
    return "not imported, not declared, and needed by nothing that is"
