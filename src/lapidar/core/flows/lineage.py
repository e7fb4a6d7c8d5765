"""Lineage: from a file back to the raw data, or on to all that rests on it."""

from __future__ import annotations

import os
from collections.abc import Iterator
from functools import cached_property
from pathlib import Path

from msgspec import Struct

from lapidar.core.cache.runs import Runs
from lapidar.core.cache.store import Cache
from lapidar.core.errors import LapidarError
from lapidar.core.flows.steps import Judged, judge
from lapidar.core.place import Place
from lapidar.core.records.owner import Layer, Owner
from lapidar.core.records.results import RecordedFile
from lapidar.core.steps.graph import Graph, Step
from lapidar.core.steps.lineage import Lineage, Made

__all__ = ["follow"]


def follow(place: Place, cache: Cache, file: str, *, forward: bool = False) -> Lineage:
    """Follow a file.

    Args:
        file: as it was named: relative to the current folder, or below the project.
        forward: to what rests on it, and not to what it rests on.

    Raises:
        LapidarError: no record knows it.
    """
    judged = judge(place, cache)
    name = _named(place, file)
    trace = _Trace(judged, cache, name, forward)
    if not trace.touching():
        near = sorted({one.name for step in judged.graph.steps.values() for one in _files(step)})
        like = [one for one in near if os.path.basename(one) == os.path.basename(name)]
        raise LapidarError(
            f"No record knows the file {name}",
            why="no analysis was seen to read or write it",
            remedy=f"There is {', '.join(like[:3])}." if like else "Record what makes it: lapidar record -- COMMAND",
        )
    return trace.told()


def _named(place: Place, file: str) -> str:
    path = Path(os.path.abspath(file))
    inside = place.relative(path.parent)
    if inside is not None and os.path.lexists(path):
        return path.name if inside == "." else f"{inside}/{path.name}"
    return os.path.normpath(file)


def _files(step: Step) -> Iterator[RecordedFile]:
    if step.analysis:
        yield from (*step.analysis.source, *step.analysis.input, *step.analysis.result)


class _Trace(Struct, dict=True):
    judged: Judged
    cache: Cache
    file: str
    forward: bool

    @property
    def graph(self) -> Graph:
        return self.judged.graph

    @cached_property
    def results(self) -> frozenset[str]:
        """What steps make."""
        return self.graph.made

    @cached_property
    def times(self) -> dict[str, float]:
        """When each record was made last."""
        return {note.record: note.time for note in Runs(self.cache).notes()}

    def touching(self) -> list[Step]:
        """The steps that made the file; where none did, those that read it."""
        steps = [step for step in self.graph.steps.values() if step.analysis]
        made = [step for step in steps if step.analysis and any(one.name == self.file for one in step.analysis.result)]
        read = [step for step in steps if self._reads(step, {self.file})]
        return read or made if self.forward else made or read

    def _reads(self, step: Step, files: set[str]) -> bool:
        analysis, unread = step.analysis, set(step.used.unread)
        every = (*analysis.source, *analysis.input) if analysis else ()
        return any(one.name in files and one.name not in unread for one in every)

    def told(self) -> Lineage:
        names = self._forward() if self.forward else self._back()
        digest = self.judged.present.digest
        on_way = {self.file, *(one.name for name in names for one in _files(self.graph.steps[name]))}
        made = tuple(self._made(self.graph.steps[name], on_way) for name in names)
        now = digest(self.file)
        known = {one.sha256 for step in self.graph.steps.values() for one in self._of_file(step)}
        raw: dict[str, bool] = {}
        for one in made:
            for file, is_same in one.inputs:
                if file.name not in self.results:
                    raw[file.name] = raw.get(file.name, True) and is_same
        return Lineage(self.file, now is not None, now in known and len(known) == 1, made, tuple(sorted(raw.items())))

    def _of_file(self, step: Step) -> Iterator[RecordedFile]:
        """What the step that makes the file says of it; where none does, all that read it."""
        analysis = step.analysis
        if analysis is None:
            return
        several = analysis.result if self.file in self.results else (*analysis.source, *analysis.input)
        yield from (one for one in several if one.name == self.file)

    def _back(self) -> list[str]:
        """The step that made it, and those whose results that one read, each before what it comes after."""
        found: dict[str, None] = {}
        steps = [step for step in self.touching() if step.analysis]
        level = [one.name for one in steps if one.analysis and any(o.name == self.file for o in one.analysis.result)]
        while level:
            found |= dict.fromkeys(level)
            after = [earlier for name in level for earlier, files in self.graph.steps[name].after.items() if files]
            level = [name for name in dict.fromkeys(after) if name not in found]
        return [name for name in reversed(self.graph.steps) if name in found]

    def _forward(self) -> list[str]:
        """The steps that read it, and those that read what these made, the nearest first."""
        files, found = {self.file}, dict[str, None]()
        while True:
            new = [name for name, step in self.graph.steps.items() if name not in found and self._reads(step, files)]
            if not new:
                return list(found)
            found |= dict.fromkeys(new)
            analyses = (self.graph.steps[name].analysis for name in new)
            files |= {one.name for analysis in analyses if analysis for one in analysis.result}

    def _made(self, step: Step, on_way: set[str]) -> Made:
        analysis, digest = step.analysis, self.judged.present.digest
        assert analysis is not None
        unread = set(step.used.unread)

        def held(files: tuple[RecordedFile, ...]) -> tuple[tuple[RecordedFile, bool], ...]:
            several = [one for one in files if one.name not in unread]
            return tuple((one, digest(one.name) == one.sha256) for one in several)

        return Made(
            step,
            self.times.get(step.written.record, 0.0) if step.written else 0.0,
            held(analysis.source),
            held(analysis.input),
            tuple(one for one in held(analysis.result) if one[0].name in on_way),
            self._packages(step),
        )

    def _packages(self, step: Step) -> tuple[str, ...] | None:
        if step.used.is_whole or step.analysis is None:
            return None
        snapshot = self.judged.present.snapshot_of(step.analysis.snapshot)
        if snapshot is None:
            return None
        owners: dict[str, Owner] = {part.owner.user: part.owner for part in snapshot.parts()}
        used = [owners[user] for user in step.used.parts if user in owners]
        shown = [one for one in used if one.layer in (Layer.RUNTIME, Layer.PACKAGES, Layer.TOOLS)]
        return tuple(f"{one.name or one.language} {one.version}".rstrip() for one in shown)
