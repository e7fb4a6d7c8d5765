"""From raw: rerun a recorded analysis and all that it stands on, each with what those before it made this time."""

from __future__ import annotations

import dataclasses
import os
from collections.abc import Callable
from pathlib import Path

from lapidar.core import atomic
from lapidar.core.cache.store import Cache
from lapidar.core.errors import LapidarError
from lapidar.core.flows import steps as stepping
from lapidar.core.flows.record import RERUN
from lapidar.core.flows.rerun import Rerun, RerunOptions, rerun
from lapidar.core.place import Place
from lapidar.core.progress import Progress
from lapidar.core.steps.graph import Graph, ordered

__all__ = ["rerun_from_raw"]


def rerun_from_raw(
    place: Place,
    cache: Cache,
    name: str,
    options: RerunOptions,
    reporter: Progress,
    tell: Callable[[Rerun], None] = lambda done: None,
) -> list[Rerun]:
    """Run everything that an analysis stands on again, from the recorded raw inputs on, and compare each.

    Args:
        tell: called with each, in their order; the analysis itself comes last.

    Raises:
        LapidarError: there is no such record, a step before it is not recorded, or the steps go in a circle.
    """
    graph = ordered(stepping.steps_of(place, cache))
    chain = _chain(graph, name)
    done: list[Rerun] = []
    made: dict[str, Path] = {}
    place.make_own_folder()
    with atomic.WorkFolder(place.own_folder, RERUN) as work:
        for number, one in enumerate(chain):
            kept = Path(work.path) / str(number)
            how = dataclasses.replace(options, keep=kept, instead=dict(made))
            again = rerun(place, cache, one, how, reporter)
            files = (kept / folder / name for folder, _, names in os.walk(kept) for name in names)
            made |= {str(file.relative_to(kept)): file for file in files if file != kept / "printed.txt"}
            done.append(again)
            tell(again)
    return done


def _chain(graph: Graph, name: str) -> list[str]:
    """The steps that one reads from, by their records, in order, and that one.

    Raises:
        LapidarError: they are not all recorded, or go in a circle.
    """
    if name not in graph.steps or graph.steps[name].analysis is None:
        raise LapidarError(f"There is no record of an analysis {name}", remedy="`lapidar steps` shows what there is.")
    wanted = {name}
    left = [name]
    while left:
        earlier = [one for one, files in graph.steps[left.pop()].after.items() if files and one not in wanted]
        wanted |= set(earlier)
        left += earlier
    for one in wanted:
        if graph.steps[one].odds:
            raise LapidarError(f"{one} cannot be rerun from raw: {graph.steps[one].odds[0]}")
    return [one for one in graph.steps if one in wanted]
