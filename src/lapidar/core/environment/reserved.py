"""Paths in a restored environment that Lapidar itself uses: no package and no runtime may bring a file there."""

from __future__ import annotations

from lapidar.core.environment import marker
from lapidar.core.errors import PackageBroken

__all__ = ["is_reserved", "refuse"]

_PLACES = frozenset((marker.FILE_NAME, marker.PRIVATE, "bin/activate", "bin/activate.fish", "bin/activate.csh"))
_BELOW = marker.PRIVATE + "/"


def is_reserved(path: str) -> bool:
    """Whether a path below an environment is Lapidar's own."""
    return path in _PLACES or path.startswith(_BELOW)


def refuse(whose: str, path: str) -> None:
    """Raises: PackageBroken: a path that somebody's file would have in an environment is reserved."""
    if is_reserved(path):
        raise PackageBroken(
            f"{whose} has a file where an environment keeps what is lapidar's: {path!r}",
            remedy="Do not use it, or have its maker put the file elsewhere. Nothing was written.",
        )
