"""A runtime that the cache lacks is brought into it again, from one of this machine that has the same bytes."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path

from lapidar.core.errors import LapidarError
from lapidar.core.languages.protocol import RuntimeHere
from lapidar.core.records.snapshot import Runtime

__all__ = ["refill"]


def refill(
    title: str, runtime: Runtime, here: Iterable[RuntimeHere], stowed: Callable[[RuntimeHere], Runtime]
) -> tuple[bool, str]:
    """See `lapidar.core.languages.protocol.Runtimes.refill`.

    Args:
        title: the language's.
        here: those of this machine.
        stowed: brings one into the cache; its record.
    """
    name, near = f"{title} {runtime.version}", None
    for one in here:
        if (one.implementation, one.version) != (runtime.implementation, runtime.version):
            continue
        try:
            record = stowed(one)
        except LapidarError:
            continue
        if record.tree == runtime.tree:
            return True, f"{name} was taken from {one.interpreter}, which has the same bytes"
        near = near or Path(one.interpreter)
    if near:
        return False, f"{near} is {name} too, but another build of it: its bytes differ"
    return False, f"no {name} is on this machine (`lapidar runtimes` shows those that are)"
