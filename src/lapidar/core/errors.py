"""The errors a caller may want to handle: each says what, why, and what to do next."""

from __future__ import annotations

import errno
import re

from lapidar.core.atomic import Unconfirmed

__all__ = [
    "CacheError",
    "CacheUnreadable",
    "CannotRun",
    "Conflict",
    "DeclarationError",
    "EnvironmentUnusable",
    "IndexTrouble",
    "LapidarError",
    "LockfileError",
    "MissingFromCache",
    "NoSpace",
    "PackageBroken",
    "StoreTrouble",
    "TargetRefused",
    "from_os_error",
    "unreadable",
]


class LapidarError(Exception):
    """Something could not be done.

    Args:
        what: what could not be done, one sentence without a full stop.
        why: the cause, where it is not plain from `what`.
        remedy: what to do or type next.
    """

    def __init__(self, what: str, *, why: str = "", remedy: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.why = why
        self.remedy = remedy

    def __str__(self) -> str:
        return f"{self.what}: {self.why}" if self.why else self.what


class EnvironmentUnusable(LapidarError):
    """There is no environment where one was asked for, or its interpreter cannot be used."""


class CannotRun(LapidarError):
    """A command cannot be run in an environment, or was ended before it ended itself."""


class PackageBroken(LapidarError):
    """An installed package, or the archive of one, is not what its own records say it may be."""


def unreadable(path: str, error: OSError) -> PackageBroken:
    """The error for a file of an environment that cannot be read."""
    return PackageBroken(
        f"The file {path!r} cannot be read",
        why=error.strerror or str(error),
        remedy="Make it readable (chmod), or reinstall what it belongs to, then capture again.",
    )


class DeclarationError(LapidarError):
    """What a project declares cannot be read, or cannot be meant."""


class Conflict(LapidarError):
    """The needs cannot be met together; `why` holds the derivation, a sentence a line."""


class IndexTrouble(LapidarError):
    """A package index does not answer, refuses, or gives something else than what was asked for."""


class StoreTrouble(LapidarError):
    """A store does not answer, refuses, or gives something else than what was asked for."""


class LockfileError(LapidarError):
    """A lockfile is missing, unreadable, edited, or of another format."""


class CacheError(LapidarError):
    """The cache cannot be opened, written, or is of another format."""


class MissingFromCache(CacheError):
    """The cache lacks bytes that a snapshot needs, or holds altered ones."""


class CacheUnreadable(CacheError):
    """Something of the cache is there and could not be read now; it may be good."""


class TargetRefused(LapidarError):
    """A folder was to be written that Lapidar did not make, or that cannot be written."""


class NoSpace(LapidarError):
    """The disk (or the quota) is full."""


# Unfinished work beside its place: see `lapidar.core.atomic`.
_UNFINISHED = re.compile(r"/\.([^/]+?)\.(?:part-|lapidar-)[0-9a-f]{12}(?:/.*)?$")


def from_os_error(error: OSError, doing: str, elsewhere: str = "") -> LapidarError:
    """Turn an operating system error into one that says what was being done and what to do.

    Args:
        error: the error as raised.
        doing: what was being done, as a verb phrase ("write the lockfile").
        elsewhere: how one says that it is to be done in another folder ("with --into").
    """
    place = error.filename2 or error.filename or ""
    if isinstance(place, bytes):
        place = place.decode("utf-8", "replace")
    place = _UNFINISHED.sub(r"/\1", str(place))
    there = f"do it elsewhere {elsewhere}" if elsewhere else "work in a copy of the project that you can write"
    where = f" ({place})" if place else ""
    if isinstance(error, Unconfirmed):
        return LapidarError(
            f"The disk did not confirm that {place} is on it for good",
            why=error.strerror or str(error),
            remedy="It is written and whole; after a power cut it may be the old one. Run the same command again when "
            "the disk is well.",
        )
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return NoSpace(
            f"Could not {doing}: no space is left{where}",
            remedy="Nothing was changed. Free some space (lapidar cache prune), or name a cache on another disk with "
            f"--cache{', or ' + there if elsewhere else ''}; then run the same command again.",
        )
    if error.errno in (errno.EACCES, errno.EPERM):
        return LapidarError(
            f"Could not {doing}: permission denied{where}",
            remedy=f"Look at who owns it and its mode (ls -l), or {there}; then run the same command again.",
        )
    if error.errno == errno.EROFS:
        return LapidarError(
            f"Could not {doing}: it lies on a read-only file system{where}",
            remedy=f"Make it writable, or {there}.",
        )
    return LapidarError(
        f"Could not {doing}: {error.strerror or error}{where}",
        remedy="Run again with --debug to see where it happened.",
    )
