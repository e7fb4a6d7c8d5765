"""Return: an earlier snapshot is the project's again: lockfile, environment, and, where it is asked for, the
declaration."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from lapidar.core.cache.history import Cause, Deed, History
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import files, writing
from lapidar.core.environment.folder import Environment
from lapidar.core.errors import LapidarError
from lapidar.core.flows import check
from lapidar.core.flows.choose import declared_at, named_snapshot, parent_of
from lapidar.core.flows.restore import Restored, RestoreOptions, restore
from lapidar.core.place import Place
from lapidar.core.progress import Progress, Silent
from lapidar.core.records import lockfile, words
from lapidar.core.records.findings import Problem
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.restored import sources
from lapidar.core.system import git

__all__ = ["ReturnOptions", "Returned", "return_to"]

_SHOWN = 3
_CHANGES = (Problem.ALTERED, Problem.EXTRA_PACKAGE)


class ReturnOptions(Struct, frozen=True, kw_only=True):
    """How to return.

    Attributes:
        declaration: bring the files of the declaration back too.
        restore: bring the environment up to it.
        yes: also where something is lost that no snapshot has.
        dry_run: tell what would be done, and do nothing.
        fetch: first fetch what the cache lacks of it, each package from the origin that its lockfile names.
    """

    declaration: bool = False
    restore: bool = True
    yes: bool = False
    fetch: bool = False
    dry_run: bool = False


class Returned(Struct, frozen=True):
    """What came of it.

    Attributes:
        before: the identity of what the lockfile held; "" where there was none that can be read.
        files: those of the declaration that were written.
        lost: what was there that no snapshot has, a sentence each.
    """

    snapshot: Snapshot
    before: str
    restored: Restored | None
    files: tuple[str, ...] = ()
    lost: tuple[str, ...] = ()


def return_to(
    place: Place, cache: Cache, name: str | None, options: ReturnOptions, reporter: Progress | None = None
) -> Returned:
    """Have an earlier snapshot again. That is in the history itself, and can be undone in the same way.

    Args:
        name: as it is named, see `named_snapshot`; None: what the lockfile held before.

    Raises:
        LapidarError: there is none; the cache lacks bytes of it; or something would be lost that no snapshot has.
    """
    if not options.dry_run:
        cache.require_writable()
        place.require_writable()
    before = lockfile.identity_in(place.lockfile) if place.lockfile.exists() else ""
    wanted = named_snapshot(place, cache, name or _parent(place, cache, before))
    texts = _declaration(place, cache, name, wanted) if options.declaration else {}
    lost = _would_lose(place, cache, before)
    if lost and not (options.yes or options.dry_run):
        raise LapidarError(
            "Something would be lost that no snapshot has",
            why="; ".join(lost),
            remedy="Capture it first (`lapidar capture`), or say --yes. Nothing was changed.",
        )
    restored = None
    kept = files.texts_of(place)
    changed = {name: text for name, text in texts.items() if kept.get(name) != text}
    if options.dry_run:
        return Returned(wanted, before, None, tuple(changed), tuple(lost))
    with cache.in_use():  # until the lockfile holds it, nobody prunes what was fetched for it
        if options.fetch:
            sources.bring(place, cache, wanted, reporter or Silent())
        if options.restore:
            # First the environment, which can fail; then the files that say that it is so.
            restored = restore(place, cache, wanted, RestoreOptions(replace=True), reporter)
        deed = Deed(Cause.RETURNED, texts={**kept, **texts}, who=git.author(place.root))
        History(cache).add(wanted, place, deed, parent=before)
        writing.write(place.root, changed)
        lockfile.write(wanted, place.lockfile)
    return Returned(wanted, before, restored, tuple(changed), tuple(lost))


def _parent(place: Place, cache: Cache, before: str) -> str:
    """Raises: LapidarError: the history has no snapshot before this one."""
    parent = parent_of(place, cache, before)
    if not parent:
        raise LapidarError(
            "The history has nothing of this project to return to",
            remedy="Name a snapshot: lapidar return ID, or REVISION: for one of version control.",
        )
    return parent


def _declaration(place: Place, cache: Cache, name: str | None, wanted: Snapshot) -> Mapping[str, str]:
    found = declared_at(place, cache, name or wanted.snapshot, wanted)
    if found is None:
        raise LapidarError(
            "Nobody kept the declaration of that snapshot",
            why="it is older than what keeps declarations, or came from another cache",
            remedy="Return without --declaration, or take it from version control.",
        )
    return found


def _would_lose(place: Place, cache: Cache, before: str) -> list[str]:
    """What is here that no snapshot has."""
    lost = []
    if place.lockfile.exists() and not before:
        lost.append(f"{place.lockfile.name} cannot be read as it is")
    elif before and not History(cache).path(before).is_file():
        lost.append(f"{place.lockfile.name} holds a snapshot that the history does not have")
    mark = Environment(place.environment).marker
    if mark is not None and before == mark.snapshot:
        findings = check.check(place, cache, lockfile.read(place.lockfile)).findings
        changed = [one for one in findings if one.problem in _CHANGES]
        if changed:
            named = words.some((words.finding_name(one) for one in changed), _SHOWN)
            lost.append(f"the environment was changed since it was restored ({named})")
    return lost
