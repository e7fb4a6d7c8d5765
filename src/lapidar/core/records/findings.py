"""A finding: one thing that `check` has to say, as a value."""

from __future__ import annotations

import enum

import msgspec

from lapidar.core.records.owner import Layer, Owner

__all__ = ["Finding", "Problem"]


class Problem(enum.StrEnum):
    """What is wrong."""

    # files of an environment
    MISSING = "missing"
    ALTERED = "altered"
    EXTRA = "extra"
    EXTRA_PACKAGE = "extra package"
    MEMBER_EDITED = "edited since the snapshot"
    # an environment as a whole
    NOT_RESTORED = "not restored"
    NOT_OURS = "not made by lapidar"
    OTHER_SNAPSHOT = "of another snapshot"
    LIST_ALTERED = "list altered"
    # the cache
    LOST = "lost"
    NOTHING_OF_IT = "nothing of it"
    CORRUPT = "corrupt"
    UNREADABLE = "unreadable"
    UNPROVEN = "unproven"
    # the host
    HOST_LACKS = "library missing on the host"
    HOST_LACKS_VERSIONS = "library of the host without symbol versions"
    HOST_DIFFERS = "another library on the host"
    NO_ROOT_OF_ITS_OWN = "no root of its own"
    # what a running environment was seen to do
    MAPPED_OUTSIDE = "mapped from outside"
    LIBRARY_MISSING = "library missing"
    CRASHED = "crashed"
    NOT_IMPORTABLE = "not importable"
    OPENED_OUTSIDE = "opened outside"
    LIBRARY_OUTSIDE = "library outside"
    READ_BY_PROGRAM = "read outside by a program"
    STARTED_OUTSIDE = "started outside"
    RUN_FAILED = "run failed"
    # recorded results
    RECORD_BROKEN = "record broken"
    RECORD_OF_OTHER_SNAPSHOT = "record of another snapshot"
    RESULTS_GONE = "results gone"
    RECORD_UNLISTED = "record unlisted"
    RESULTS_ALTERED = "results altered"
    # the declaration
    RUNTIME_NOT_ALLOWED = "runtime not allowed"
    NOT_LOCKED = "not locked"
    OUT_OF_RANGE = "out of range"
    NOT_DECLARED = "not declared"
    OTHER_CONDITION = "other condition"
    IMPORT_NOT_DECLARED = "import not declared"
    IMPORT_OF_NOTHING = "import of nothing"


class Finding(msgspec.Struct, frozen=True):
    """One thing that is not as the lockfile says. Its words, and what to do, are in `lapidar.core.records.words`.

    Attributes:
        layer: what it is about.
        problem: what is wrong.
        owner: whose files are concerned, where some are.
        name: what is concerned, where it is nobody's: a path, a package, a library.
        language: whose package, module or runtime that is; "" where it is none.
        paths: the files concerned, as paths below the environment or in the package.
        details: what the problem's words have places for: versions, identities, an error.
    """

    layer: Layer
    problem: Problem
    owner: Owner | None = None
    name: str = ""
    paths: tuple[str, ...] = ()
    details: tuple[str, ...] = ()
    language: str = ""
