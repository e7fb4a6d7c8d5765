"""Which snapshot is meant."""

from __future__ import annotations

import subprocess
from pathlib import Path

from lapidar.core.cache.store import Cache
from lapidar.core.declaring import files
from lapidar.core.environment.folder import Environment
from lapidar.core.errors import LapidarError
from lapidar.core.place import Place
from lapidar.core.records import lockfile, selection
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.system import git

__all__ = ["declared_at", "named_snapshot", "of_revision", "parent_of", "placed_snapshot", "read_snapshot"]


def read_snapshot(place: Place, cache: Cache | None, lock: Path | None, snapshot_id: str | None) -> Snapshot:
    """The snapshot that is meant: from the history by its identity, else from a lockfile.

    Raises:
        LockfileError: there is none.
    """
    if snapshot_id and cache:
        from lapidar.core.cache.history import History

        return History(cache).find(snapshot_id)
    return lockfile.read(lock or place.lockfile)


def placed_snapshot(cache: Cache, environment: Environment, locked: Snapshot) -> Snapshot:
    """The snapshot that an environment is to be judged by: the lockfile's, but where another one was asked for, and
    the history knows it, that."""
    mark = environment.marker
    if mark is None or not mark.chosen:
        return locked
    from lapidar.core.cache.history import History

    place = Place.of_environment(environment.folder)
    own = lockfile.read_if_there(place.members_snapshot) if place else None
    if own and selection.without(own, mark.left_out).snapshot == mark.snapshot:
        return own
    for _, one in History(cache).copies():
        if isinstance(one, Snapshot) and selection.without(one, mark.left_out).snapshot == mark.snapshot:
            return one
    return locked


def named_snapshot(place: Place, cache: Cache, text: str) -> Snapshot:
    """The snapshot that somebody names: a file; ``REVISION:`` for the lockfile of a revision of version control (and
    ``REVISION:PATH``); the beginning of an identity in the history.

    Raises:
        LockfileError, LapidarError: it is none of these, or more than one.
    """
    if Path(text).is_file():
        return lockfile.read(Path(text))
    revision, colon, path = text.partition(":")
    if colon and revision != "sha256":
        data = of_revision(place, revision, path or place.lockfile.name)
        return lockfile.parse(data.decode("utf-8", "replace"), f"{path or place.lockfile.name} of {revision}")
    from lapidar.core.cache.history import History

    return History(cache).find(text)


def parent_of(place: Place, cache: Cache, snapshot_id: str) -> str:
    """The identity of the snapshot that a project's lockfile held before it held another; "" where nobody knows."""
    from lapidar.core.cache.history import History

    identity = place.identity() if place.has_identity else ""
    moments = History(cache).of_project(identity, place.lockfile)
    return next((one.parent for one in reversed(moments) if one.snapshot == snapshot_id and one.parent), "")


def of_revision(place: Place, revision: str, path: str) -> bytes:
    """A file of the project as version control has it in a revision.

    Raises:
        LapidarError: there is no such revision, or no such file in it.
    """
    # What begins with a dash would be taken for an option.
    if not revision or revision.startswith("-") or not revision.isprintable():
        raise LapidarError(f"{revision!r} is no revision", remedy="Name a commit, a branch or a tag.")
    try:
        done = git.run(place.root, "show", "--end-of-options", f"{revision}:./{path}")
    except (OSError, subprocess.TimeoutExpired) as error:
        raise LapidarError("git cannot be asked for another revision", why=str(error)) from error
    if done.returncode:
        raise LapidarError(
            f"git has no {path} of the revision {revision}",
            why=done.stderr.decode("utf-8", "replace").strip(),
            remedy=f"Look at its spelling: git log -- {path}",
        )
    return done.stdout


def declared_at(place: Place, cache: Cache, text: str, snapshot: Snapshot) -> dict[str, str] | None:
    """The files of the declaration as they were with a snapshot that somebody names; None where nobody kept them."""
    revision, colon, _ = text.partition(":")
    if colon and revision != "sha256" and not Path(text).is_file():
        found = {}
        for name in files.declaring_files():
            try:
                found[name] = of_revision(place, revision, name).decode("utf-8")
            except (LapidarError, UnicodeDecodeError):
                continue
        return found or None
    from lapidar.core.cache.history import Cause, History

    history = History(cache)
    kept = [one for one in history.moments() if one.snapshot == snapshot.snapshot and one.declared]
    # A return without the declaration says nothing of what was declared for that snapshot.
    made = [one for one in kept if one.cause is not Cause.RETURNED] or kept
    return history.declaration(made[-1].declared) if made else None
