"""Whose system libraries a restored environment is to run with."""

from __future__ import annotations

from pathlib import Path

from lapidar.core.environment.marker import WhoseLibraries
from lapidar.core.errors import LapidarError
from lapidar.core.records import words
from lapidar.core.records.snapshot import Snapshot

__all__ = ["whose_libraries"]

_SPLITS_PATHS = ":;"


def whose_libraries(snapshot: Snapshot, asked: WhoseLibraries, target: Path) -> tuple[WhoseLibraries, tuple[str, ...]]:
    """Decide between the environment's own libraries and the host's.

    Args:
        target: the environment's folder.

    Returns:
        Whose, and what the user should know of the decision.

    Raises:
        LapidarError: the snapshot's own cannot be used, or the host's do not satisfy what the snapshot needs.
    """
    if asked is WhoseLibraries.HOST:
        _require_host(snapshot)
        return WhoseLibraries.HOST, _without_tools(snapshot)
    why_not = _why_not_private(snapshot, target)
    if why_not is None:
        return WhoseLibraries.PRIVATE, ()
    if asked is WhoseLibraries.PRIVATE:
        raise LapidarError(
            "The environment cannot have system libraries of its own",
            why=why_not,
            remedy="Restore it with --libraries host, or capture it again where that holds.",
        )
    if snapshot.library_layer is None:
        return WhoseLibraries.HOST, ()
    _require_host(snapshot)
    return WhoseLibraries.HOST, (
        f"{why_not}: the environment uses the host's system libraries",
        *_without_tools(snapshot),
    )


def _without_tools(snapshot: Snapshot) -> tuple[str, ...]:
    if not snapshot.tools:
        return ()
    names = ", ".join(tool.name for tool in snapshot.tools)
    return (f"the outside programs ({names}) are not placed: they run with the snapshot's libraries only",)


def _why_not_private(snapshot: Snapshot, target: Path) -> str | None:
    if snapshot.library_layer is None:
        return "the snapshot holds no system libraries"
    if not snapshot.platform.libc.startswith("glibc "):
        return f"its C library is {snapshot.platform.libc or 'unknown'}, and only glibc's loader is known to us"
    if any(mark in str(target) for mark in _SPLITS_PATHS):
        return f"the path {target} has a colon or semicolon in it, at which the loader splits lists of folders"
    return None


def _require_host(snapshot: Snapshot) -> None:
    """Refuse unless the host has every recorded library with the symbol versions that are needed of it."""
    if snapshot.library_layer is None:
        return
    from lapidar.core.layers.libraries import lack_finding
    from lapidar.core.system import host

    lacking = [words.problem(lack_finding(one)) for one in host.lacking(host.find(snapshot))]
    if lacking:
        shown = "\n  ".join(["", *lacking[:10], *([f"and {len(lacking) - 10} more"] if len(lacking) > 10 else [])])
        raise LapidarError(
            "The libraries of this host do not satisfy what the snapshot needs, and nothing was placed",
            why=shown,
            remedy="Restore it with --libraries private, or install what is missing.",
        )
