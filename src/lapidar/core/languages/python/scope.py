"""What of an environment a project uses: what its source imports or it declares, and all that these need."""

from __future__ import annotations

import importlib.util
import os
from collections.abc import Collection, Iterator, Mapping

from msgspec.structs import replace
from packaging.utils import canonicalize_name

from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import FileDraft
from lapidar.core.declaring import reading
from lapidar.core.errors import DeclarationError, LapidarError
from lapidar.core.languages.protocol import Inventory, Unused, Used
from lapidar.core.languages.python.inventory import PythonInventory
from lapidar.core.languages.python.packages import PackagesFound
from lapidar.core.languages.python.requirements import requirement_of
from lapidar.core.languages.python.standards.metadata import needed
from lapidar.core.languages.python.survey import sources
from lapidar.core.languages.python.survey.flow import installed, survey
from lapidar.core.place import Place
from lapidar.core.records.selection import closure

__all__ = ["choose_used"]

_CODE = (".py", ".so")


def choose_used(inventory: Inventory, place: Place, cache: Cache, scope: str | None, opened: Collection[str]) -> Used:
    """What the project uses of what was found; see `lapidar.core.languages.protocol.Capturing`."""
    assert isinstance(inventory, PythonInventory)
    files = list(sources.find(place.root))
    surveyed = survey(place, installed(inventory.found), inventory.answer.version, cache, files=files)
    whole = Used.all_of(inventory, surveyed)
    found = inventory.found
    if scope == "whole" or not found.packages:
        return whole
    try:
        declared = reading.read(place).needs_of("python")
    except DeclarationError:
        if scope:
            raise
        declared = ()  # a capture is not to fail for that; the survey's problems tell of it
    roots = surveyed.imported | surveyed.declared_of("python") | {need.name for need in declared}
    here = {package.metadata.name for package in found.packages}
    # What is installed from the project's own folder is the project itself.
    roots |= {package.metadata.name for package in found.packages if package.origin.kind == "local"}
    ran = set(_run_from(found, opened)) if opened else set()
    if not (roots | ran) & here and not files:
        if scope == "used":
            raise LapidarError(
                "The project uses no package of this environment, as far as its source and its declaration tell",
                remedy="Capture all of it with --scope whole, or name the project with --project.",
            )
        return whole
    extras = {package.metadata.name: set(package.facts.extras) for package in found.packages}
    for need in declared:
        if need.name in extras:
            extras[need.name] |= {canonicalize_name(extra) for extra in requirement_of(need).extras}
    # No extra is inferred here: what only an extra needs that nobody declares is not used.
    needs = needed([package.metadata for package in found.packages], inventory.answer.markers, (), extras)
    # What was run and is needed by nothing that is asked for (a plugin) counts as asked for.
    roots |= ran - closure(roots & here, needs)
    kept = closure(roots & here, needs)
    unused = {name: _why(name, needs) for name in sorted(here - kept)}
    used = replace(
        found,
        packages=[
            replace(package, requested=package.metadata.name in roots)
            for package in found.packages
            if package.metadata.name in kept
        ],
    )
    problems = [f"{problem}; what it imports is not known" for problem in surveyed.problems]
    return replace(whole, inventory=_with_warnings(replace(inventory, found=used), problems), unused=unused)


def _with_warnings(inventory: PythonInventory, warnings: Collection[str]) -> PythonInventory:
    found = inventory.found
    return replace(inventory, found=replace(found, warnings=[*found.warnings, *warnings]))


def _run_from(found: PackagesFound, opened: Collection[str]) -> Iterator[str]:
    """The packages whose code is among opened files: byte-code stands for its source."""
    code = {_source(path) for path in opened if path.endswith((".py", ".pyc", ".so"))}
    for package in found.packages:
        for draft in package.drafts:
            if isinstance(draft, FileDraft) and draft.path.endswith(_CODE) and os.path.realpath(draft.source) in code:
                yield package.metadata.name
                break


def _source(path: str) -> str:
    if not path.endswith(".pyc"):
        return path
    try:
        return importlib.util.source_from_cache(path)
    except ValueError:
        return path[:-1]  # beside its source, or no name that a runtime gives


def _why(name: str, needs: Mapping[str, tuple[str, ...]]) -> Unused:
    return Unused(tuple(sorted(source for source, targets in needs.items() if name in targets)))
