"""Changes: what is different between two snapshots, layer by layer, down to the lines of a package's source."""

from __future__ import annotations

from pathlib import Path

from msgspec import Struct

from lapidar.core import languages
from lapidar.core.cache.history import History
from lapidar.core.cache.store import Cache
from lapidar.core.changes import files
from lapidar.core.changes.files import FileChange
from lapidar.core.changes.influence import Weight
from lapidar.core.errors import LapidarError, LockfileError
from lapidar.core.flows.choose import named_snapshot, of_revision, parent_of
from lapidar.core.flows.history import changes_between
from lapidar.core.flows.naming import package_of
from lapidar.core.place import Place
from lapidar.core.records import lockfile
from lapidar.core.records.difference import Change
from lapidar.core.records.owner import PackageName
from lapidar.core.records.snapshot import Snapshot

__all__ = ["Changes", "FilesChanged", "changes", "files_of"]


class FilesChanged(Struct, frozen=True):
    """The files that differ of a package, a runtime or an outside program.

    Attributes:
        changed: less what only describes it.
        described: how many files of its metadata differ.
        lost: why they cannot be told; "" where they can.
        news: what its own change log says of the versions between.
    """

    change: Change
    changed: tuple[FileChange, ...] = ()
    described: int = 0
    lost: str = ""
    news: tuple[str, ...] = ()


class Changes(Struct, frozen=True):
    """What is different, what most likely alters results first.

    Attributes:
        called: how the two are called.
        files: for changes whose bytes differ, where it was asked for.
    """

    before: Snapshot
    after: Snapshot
    called: tuple[str, str]
    changes: tuple[tuple[Change, Weight], ...]
    files: tuple[FilesChanged, ...] = ()


def changes(place: Place, cache: Cache, before: str | None, after: str | None, *, with_files: bool = False) -> Changes:
    """What is different between two snapshots.

    Args:
        before, after: as they are named, see `named_snapshot`, or the folder of an environment, which is observed as a
            capture would, and nothing of it written; None: the parent of the project's own snapshot, and
            that; of a lockfile with both sides of a merge in it, these.
        with_files: tell the files that differ too.

    Raises:
        LockfileError, LapidarError: one is nothing, or the project's own has no parent.
    """
    one, other, called = _both(place, cache, before, after)
    found = changes_between(one, other)
    named = [change for change, _ in found if change.owner.version or change.owner.name] if with_files else []
    told = tuple(_files_between(cache, one, other, change) for change in named)
    return Changes(one, other, called, tuple(found), told)


def _both(
    place: Place, cache: Cache, before: str | None, after: str | None
) -> tuple[Snapshot, Snapshot, tuple[str, str]]:
    if before is not None:
        one = _side(place, cache, before)
        other = _side(place, cache, after) if after else lockfile.read(place.lockfile)
        return one, other, (before, after or place.lockfile.name)
    sides = lockfile.sides_of_merge(place.lockfile)
    if sides:
        return *(_stages(place) or sides), ("ours", "theirs")
    current = lockfile.read(place.lockfile)
    parent = _parent(place, cache, current.snapshot)
    return lockfile.read(History(cache).path(parent)), current, (parent[7:19], current.snapshot[7:19])


def _stages(place: Place) -> tuple[Snapshot, Snapshot] | None:
    """The two sides as version control keeps them until a merge is finished: what it could merge by itself stands
    outside of the marks, and belongs to one of them alone. None where it keeps none."""
    try:
        texts = [of_revision(place, stage, place.lockfile.name).decode("utf-8", "replace") for stage in (":2", ":3")]
        ours, theirs = (lockfile.parse(text, place.lockfile.name) for text in texts)
    except LapidarError:
        return None
    return ours, theirs


def _side(place: Place, cache: Cache, named: str) -> Snapshot:
    path = Path(named)
    if not path.is_dir():
        return named_snapshot(place, cache, named)
    from lapidar.core.flows.capture import CaptureOptions, capture

    return capture(place, cache, CaptureOptions(environment=path, writes=False)).snapshot


def _parent(place: Place, cache: Cache, snapshot_id: str) -> str:
    """Raises: LapidarError: the history has no snapshot before this one."""
    parent = parent_of(place, cache, snapshot_id)
    if not parent:
        raise LapidarError(
            "The history has no snapshot of this project before the one that it has now",
            remedy="Name two: lapidar changes A B, with identities of `lapidar history`, files, or REVISION: of git.",
        )
    return parent


def _files_between(cache: Cache, before: Snapshot, after: Snapshot, change: Change) -> FilesChanged:
    """The files of a thing that differ, where both sides have it and the cache has both."""
    trees = [side.tree_of(change.owner.user) for side in (before, after)]
    if not trees[0] or not trees[1]:
        return FilesChanged(change)
    try:
        one, other = (cache.tree(digest) for digest in trees if digest)
    except LapidarError as error:
        return FilesChanged(change, lost=str(error))
    told = files.news(cache, one, other, change.old, change.new)
    language = languages.of(change.owner.language) if change.owner.language else None
    differing = files.differing(one, other)
    changed = [file for file in differing if not (language and language.checking.is_metadata(file.path))]
    return FilesChanged(change, tuple(changed), len(differing) - len(changed), news=tuple(told))


def files_of(cache: Cache, found: Changes, name: str, language: str = "") -> list[tuple[FileChange, list[str] | None]]:
    """The files of a package that differ, each with the lines that do; None for what is no text.

    Raises:
        LapidarError: no package of that name changed, or in two languages one did; or its bytes are lost.
    """
    changed = {PackageName(one.owner.language, one.owner.name): one for one, _ in found.changes if one.owner.language}
    try:
        change = changed[package_of(name, changed.keys(), language)]
    except LapidarError as error:
        raise LapidarError(f"The files of {name} cannot be told", why=error.what, remedy=error.remedy) from error
    between = _files_between(cache, found.before, found.after, change)
    if between.lost:
        raise LockfileError(
            f"The files of {name} cannot be told", why=between.lost, remedy="`lapidar restore --fetch` may bring them."
        )
    return [(one, files.text_difference(cache, one)) for one in between.changed]
