"""What of an environment a project uses: what its source loads or it declares, and all that these need."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping

from msgspec.structs import replace

from lapidar.core.cache.store import Cache
from lapidar.core.declaring import reading
from lapidar.core.errors import DeclarationError, LapidarError
from lapidar.core.languages.protocol import Inventory, Unused, Used
from lapidar.core.languages.r.inventory import RInventory
from lapidar.core.languages.r.survey import sources
from lapidar.core.languages.r.survey.flow import survey
from lapidar.core.place import Place
from lapidar.core.records.selection import closure

__all__ = ["choose_used"]


def choose_used(inventory: Inventory, place: Place, cache: Cache, scope: str | None, opened: Collection[str]) -> Used:
    """What the project uses of what was found; see `lapidar.core.languages.protocol.Capturing`."""
    assert isinstance(inventory, RInventory)
    files = list(sources.find(place.root))
    found = inventory.found
    here = {package.name: package.description.version for package in found.packages}
    surveyed = survey(place, here, cache, files=files)
    whole = Used.all_of(inventory, surveyed)
    if scope == "whole" or not here:
        return whole
    try:
        declared = {need.name for need in reading.read(place).needs_of("r")}
    except DeclarationError:
        if scope:
            raise
        declared = set()  # a capture is not to fail for that; the survey's problems tell of it
    ran = set(_run_from(inventory, opened))
    roots = (surveyed.imported | surveyed.declared_of("r") | declared | ran) & here.keys()
    if not roots and not files:
        if scope == "used":
            raise LapidarError(
                "The project uses no package of this R, as far as its source and its declaration tell",
                remedy="Capture all of it with --scope whole, or name the project with --project.",
            )
        return whole
    needs = found.needs
    kept = closure(roots, needs)
    asked = roots - _needed_anyway(ran - surveyed.imported - surveyed.declared_of("r") - declared, roots, needs)
    problems = [f"{problem}; what it loads is not known" for problem in surveyed.problems]
    problems += [
        f"{call} in {places[0]} names no package: what it loads is not known"
        for call, places in surveyed.unclear.items()
    ]
    used = RInventory(
        inventory.answer, inventory.environment, inventory.base, found.only(kept, asked), inventory.place
    ).with_warnings(problems)
    return replace(whole, inventory=used, unused={name: _why(name, needs) for name in sorted(here.keys() - kept)})


def _needed_anyway(ran: set[str], roots: set[str], needs: Mapping[str, tuple[str, ...]]) -> set[str]:
    """Of packages that only a run was seen to use, those that what is asked for needs anyway."""
    return ran & closure(roots - ran, needs)


def _run_from(inventory: RInventory, opened: Collection[str]) -> Iterator[str]:
    """The packages whose files are among opened ones."""
    folders = {f"{package.folder}/": package.name for package in inventory.found.packages} if opened else {}
    for path in opened:
        # What is loaded of a package: its code, or its compiled one.
        folder, _, file = path.rpartition("/")
        if file.endswith((".rdb", ".so")) and (name := folders.get(folder.rpartition("/")[0] + "/")):
            yield name


def _why(name: str, needs: Mapping[str, tuple[str, ...]]) -> Unused:
    return Unused(tuple(sorted(source for source, targets in needs.items() if name in targets)))
