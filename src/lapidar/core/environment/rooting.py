"""The helper that starts outside programs in a root of their own: a static executable of our own (`native/enter.c`), so
that an environment needs no particular language for it."""

from __future__ import annotations

from pathlib import Path

from lapidar.core.environment import marker
from lapidar.core.errors import LapidarError

__all__ = ["HELPER", "helper"]

HELPER = f"{marker.PRIVATE}/enter"


def helper(machine: str) -> bytes:
    """The helper's bytes.

    Args:
        machine: the kind of processor: ``x86_64``.

    Raises:
        LapidarError: there is none for it.
    """
    try:
        return (Path(__file__).parents[1] / "system" / "native" / f"enter.{machine}").read_bytes()
    except FileNotFoundError as error:
        raise LapidarError(
            f"Outside programs cannot be placed for {machine}: there is no helper for that kind of processor",
            remedy="Restore with --libraries host, which leaves them out.",
        ) from error
