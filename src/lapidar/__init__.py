"""Lapidar captures the environment an analysis runs in and restores it byte for byte.

The calls below, with the errors that are worth catching (each is a `LapidarError`), are the whole Python API. Each is
imported only when it is used, so that ``import lapidar`` costs nothing.

>>> import lapidar
>>> captured = lapidar.capture(project="sherds", environment="sherds/.venv")  # doctest: +SKIP
>>> pinned = lapidar.pin(project="kilns")                                     # doctest: +SKIP
>>> restored = lapidar.restore(project="sherds", into="/tmp/again")           # doctest: +SKIP
>>> lapidar.check(project="sherds").clean                                      # doctest: +SKIP
True
>>> lapidar.record(["python", "analysis.py"], project="sherds")                 # doctest: +SKIP
>>> lapidar.rerun("analysis", project="sherds").good                            # doctest: +SKIP
True
>>> lapidar.prove("analysis", project="sherds").proven                          # doctest: +SKIP
True
"""

from __future__ import annotations

from lapidar._version import VERSION as __version__

TYPE_CHECKING = False  # `typing` is not imported for a name that type checkers know without it
if TYPE_CHECKING:
    from typing import Any

    from lapidar.api import capture, check, elsewhere, pin, restore
    from lapidar.api_results import compare, prove, record, rerun
    from lapidar.core.errors import (
        CacheError,
        CannotRun,
        Conflict,
        EnvironmentUnusable,
        LapidarError,
        LockfileError,
        MissingFromCache,
        NoSpace,
    )

__all__ = [
    "CacheError",
    "CannotRun",
    "Conflict",
    "EnvironmentUnusable",
    "LapidarError",
    "LockfileError",
    "MissingFromCache",
    "NoSpace",
    "__version__",
    "capture",
    "check",
    "compare",
    "elsewhere",
    "pin",
    "prove",
    "record",
    "rerun",
    "restore",
]


def __getattr__(name: str) -> Any:
    if name in ("capture", "check", "elsewhere", "pin", "restore"):
        from lapidar import api

        return getattr(api, name)
    if name in ("compare", "prove", "record", "rerun"):
        from lapidar import api_results

        return getattr(api_results, name)
    if name in __all__:  # the errors that are worth catching
        from lapidar.core import errors

        return getattr(errors, name)
    raise AttributeError(f"module 'lapidar' has no attribute {name!r}")
