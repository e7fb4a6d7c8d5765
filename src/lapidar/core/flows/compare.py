"""A restored environment against its snapshot: what of it is missing, altered, extra, as findings. A part of the flows
of restoring and checking."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from lapidar.core import languages
from lapidar.core.environment import comparing, manifest
from lapidar.core.environment.comparing import Compared
from lapidar.core.environment.folder import Environment
from lapidar.core.environment.listing import Listing, PlacedRow
from lapidar.core.environment.manifest import Manifest
from lapidar.core.environment.status import Status, Walking
from lapidar.core.errors import CacheError
from lapidar.core.records import words
from lapidar.core.records.findings import Finding, Problem
from lapidar.core.records.owner import Layer, Owner
from lapidar.core.records.snapshot import Snapshot

if TYPE_CHECKING:
    from lapidar.core.cache.contents import Contents
    from lapidar.core.environment.layout import ToProject
    from lapidar.core.progress import Progress
    from lapidar.core.restored.assemble import Derived

__all__ = ["by_bytes", "derived_part", "findings", "is_of", "made_by_running", "quickly"]


def is_of(snapshot: Snapshot, environment: Environment) -> Finding | None:
    """The one finding where there is no such environment of a snapshot, or its list cannot be trusted."""
    shown = str(environment.folder)
    if not environment.folder.is_dir():
        return Finding(Layer.ENVIRONMENT, Problem.NOT_RESTORED, name=shown)
    if environment.marker is None:
        return Finding(Layer.ENVIRONMENT, Problem.NOT_OURS, name=shown)
    if environment.marker.snapshot != snapshot.snapshot:
        told = (words.short(environment.marker.snapshot), words.short(snapshot.snapshot))
        return Finding(Layer.ENVIRONMENT, Problem.OTHER_SNAPSHOT, name=shown, details=told)
    if environment.manifest is None:
        return Finding(Layer.ENVIRONMENT, Problem.LIST_ALTERED, name=manifest.FILE_NAME)
    return None


def quickly(snapshot: Snapshot, environment: Environment) -> list[Finding]:
    """What differs, by inodes, sizes and times."""
    walking = Walking(environment.folder)
    try:
        not_of = is_of(snapshot, environment)
        listed = environment.manifest
        if not_of or listed is None:
            return [not_of] if not_of else []
        must = comparing.expected(listed)
        found = walking.result()
        made = made_by_running(snapshot)
        return findings(snapshot, listed, comparing.by_status(environment.folder, listed, found, must, made))
    finally:
        walking.drop()


def derived_part(
    snapshot: Snapshot, environment: Environment, contents: Contents, project: ToProject
) -> Derived | None:
    """What must be there by the lockfile and the trees alone, so that no list in the environment itself is trusted.
    None where the trees cannot be read."""
    from lapidar.core.restored import assemble

    try:
        derived = assemble.derive(
            snapshot, contents.trees, contents.cache, project, environment.libraries, there=lambda tree: True
        )
        listed = environment.manifest
        if listed:
            derived.layout.as_placed(frozenset(listed.listing.paths))
        return derived
    except (CacheError, OSError, KeyError):
        return None


def by_bytes(
    snapshot: Snapshot,
    environment: Environment,
    derived: Derived,
    found: dict[str, Status],
    contents: Contents,
    reporter: Progress,
) -> list[Finding]:
    """What differs, by reading every file.

    Args:
        derived: what must be there.
        found: the walk of the environment.
        contents: of the snapshot; what was read of it is not read again where the environment is linked to it.
    """
    listed = environment.manifest
    placed = set(listed.listing.paths) if listed else set()
    items = derived.layout.items
    every = derived.layout.assembled(snapshot).listing
    # What the cache could not keep of derived things is not missing from the environment.
    rows = [row for row in every.rows() if row[0] in placed or not items[row[0]].derived]
    must = Manifest(Listing.of(rows, every.owners, every.wanted), [])
    made = made_by_running(snapshot)
    result = findings(
        snapshot, must, comparing.by_bytes(environment.folder, must, found, made, reporter, contents.read)
    )
    unproven = sorted(path for path in placed - items.keys() if path in found)
    if unproven:
        result.append(Finding(Layer.ENVIRONMENT, Problem.UNPROVEN, paths=tuple(unproven)))
    return result


def some_by_bytes(
    snapshot: Snapshot, environment: Environment, derived: Derived, paths: Iterable[str]
) -> list[Finding]:
    """What differs of some files, by reading them."""
    every = derived.layout.assembled(snapshot).listing
    wanted = set(paths)
    rows = [row for row in every.rows() if row[0] in wanted]
    altered = [row for row in rows if not comparing.same_content(f"{environment.folder}/{row[0]}", row)]
    result = findings(snapshot, Manifest(every, []), Compared([], altered, []))
    unproven = sorted(wanted - {row[0] for row in rows})
    if unproven:
        result.append(Finding(Layer.ENVIRONMENT, Problem.UNPROVEN, paths=tuple(unproven)))
    return result


def made_by_running(snapshot: Snapshot) -> comparing.Passing:
    """Tells what is only there because something ran."""
    several = [languages.of(name).checking.made_by_running for name in snapshot.languages]
    return several[0] if len(several) == 1 else lambda path: any(one(path) for one in several)


def findings(snapshot: Snapshot, listed: Manifest, compared: Compared) -> list[Finding]:
    """What was compared, by whose it is."""
    owners = listed.listing.owners
    found = []
    for problem, rows in ((Problem.MISSING, compared.missing), (Problem.ALTERED, compared.altered)):
        for owner, paths in sorted(_grouped(owners, rows).items(), key=lambda one: words.owner(one[0])):
            found.append(Finding(owner.layer, problem, owner, paths=tuple(sorted(paths))))
    return found + list(_extras(snapshot, compared.extra))


def _grouped(owners: list[Owner], rows: Iterable[PlacedRow]) -> dict[Owner, list[str]]:
    grouped: dict[Owner, list[str]] = defaultdict(list)
    for row in rows:
        grouped[owners[row[1]]].append(row[0])
    return grouped


def _extras(snapshot: Snapshot, extra: Iterable[str]) -> Iterator[Finding]:
    """Extra packages by their names, what lies in the packages' folders beside them, and the rest."""
    rest = set(extra)
    for runtime in snapshot.runtimes:
        language = languages.of(runtime.language)
        folder = language.checking.package_folder(runtime) + "/"
        inside = sorted(path for path in rest if path.startswith(folder))
        for stray in language.checking.strays(runtime, inside):
            owner = Owner(Layer.PACKAGES, runtime.language, stray.name, stray.version)
            yield Finding(Layer.PACKAGES, Problem.EXTRA_PACKAGE, owner)
        if inside:
            yield Finding(Layer.PACKAGES, Problem.EXTRA, paths=tuple(inside))
        rest.difference_update(inside)
    if rest:
        yield Finding(Layer.ENVIRONMENT, Problem.EXTRA, paths=tuple(sorted(rest)))
