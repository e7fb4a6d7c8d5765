"""Analyses in their order: who comes after whom, by what they read and wrote; and the standing of each."""

from __future__ import annotations

import enum
import posixpath
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from fnmatch import fnmatchcase
from functools import cached_property
from typing import NamedTuple

from msgspec import Struct, field

from lapidar.core.records.declaration import DeclaredAnalysis
from lapidar.core.records.results import Analysis
from lapidar.core.steps.standing import Cause, Reason
from lapidar.core.steps.used import Used

__all__ = ["Graph", "Standing", "Step", "Unsaid", "ordered"]


class Standing(enum.StrEnum):
    """How a step stands; see docs/steps.md."""

    UP_TO_DATE = "up to date"
    OUT_OF_DATE = "out of date"
    WAITS = "waits for"
    NEVER_RAN = "never ran"
    FAILED = "failed"
    AT_ODDS = "at odds"


class Step(Struct, dict=True):
    """An analysis among others.

    Attributes:
        analysis: its record, with all of its files; None where it has none.
        declared: what the project says of it.
        used: what its run stood on.
        after: the steps that it comes after, by name; each with the files by which, none where that is only declared.
        follows: steps that it is run after because they are declared before it, and nothing is known of it yet.
        reasons: why it is out of date by itself.
        waits_for: steps before it that are to run first.
        odds: why it cannot be ordered, a sentence each.
        failed: how its last refresh ended, where nothing changed since; "" where it did not fail.
        written: its record as it is written.
        seconds: how long it took last time; None where nobody here knows.
    """

    name: str
    analysis: Analysis | None
    declared: DeclaredAnalysis
    used: Used
    after: dict[str, tuple[str, ...]] = field(default_factory=dict)
    follows: tuple[str, ...] = ()
    reasons: list[Reason] = field(default_factory=list)
    waits_for: list[str] = field(default_factory=list)
    odds: list[str] = field(default_factory=list)
    failed: str = ""
    written: Analysis | None = None
    seconds: float | None = None

    @property
    def command(self) -> tuple[str, ...]:
        """What is run: what is declared, else what was recorded."""
        return self.declared.command or (self.analysis.command if self.analysis else ())

    @property
    def standing(self) -> Standing:
        if self.odds:
            return Standing.AT_ODDS
        if self.failed:
            return Standing.FAILED
        if self.analysis is None:
            return Standing.NEVER_RAN
        if self.reasons and not self._may_come_back():
            return Standing.OUT_OF_DATE
        return Standing.WAITS if self.waits_for else Standing.UP_TO_DATE

    def _may_come_back(self) -> bool:
        """Whether all that is another is what steps made that are to run first: they may make what it was."""
        made = {file for name in self.waits_for for file in self.after.get(name, ())}
        return all(one.cause in (Cause.INPUT, Cause.SOURCE, Cause.GONE) and one.name in made for one in self.reasons)

    @property
    def is_good(self) -> bool:
        return self.standing is Standing.UP_TO_DATE


class Unsaid(NamedTuple):
    """A step reads a file that another makes, and what it declares of its order does not say so."""

    step: str
    reads_from: str
    file: str


class Graph(Struct, dict=True):
    """Steps in order: each comes after those that it reads from; those at odds with others stand where they fit."""

    steps: dict[str, Step]

    @property
    def made(self) -> frozenset[str]:
        """What its steps make: paths below the project."""
        analyses = (step.analysis for step in self.steps.values())
        return frozenset(file.name for one in analyses if one for file in one.result)

    def before(self, names: Iterable[str]) -> set[str]:
        """Steps, and all that they come after."""
        found: set[str] = set()
        left = list(names)
        while left:
            name = left.pop()
            if name not in found and name in self.steps:
                found.add(name)
                left += self.steps[name].after
        return found

    def behind(self, names: Iterable[str]) -> set[str]:
        """Steps, and all that come after them."""
        followers = self.followers
        found: set[str] = set()
        left = list(names)
        while left:
            name = left.pop()
            if name not in found:
                found.add(name)
                left += followers.get(name, ())
        return found

    def made_behind(self, name: str) -> frozenset[str]:
        """What the steps make that come after one: paths below the project."""
        later = (self.steps[one].analysis for one in self.behind([name]) - {name})
        return frozenset(file.name for one in later if one for file in one.result)

    @property
    def unsaid(self) -> Iterator[Unsaid]:
        """Of steps that declare what they come after, what else they read of others; one file of each."""
        for step in self.steps.values():
            for name, files in step.after.items() if step.declared.after else ():
                if files and name not in step.declared.after:
                    yield Unsaid(step.name, name, files[0])

    @cached_property
    def followers(self) -> Mapping[str, Sequence[str]]:
        """By each step, those that come right after it."""
        found: dict[str, list[str]] = defaultdict(list)
        for step in self.steps.values():
            for earlier in step.after:
                found[earlier].append(step.name)
        return found


def ordered(steps: Iterable[Step]) -> Graph:
    """Find out who comes after whom, what cannot be ordered, and put all in order; ties as they came."""
    known = {step.name: step for step in steps}
    makers = _makers(known)
    declared = {
        name: one.declared.results for name, one in known.items() if one.declared.results and not one.declared.part_of
    }
    for step in known.values():
        _find_earlier(step, known, makers)
        if step.analysis is None:
            step.after |= dict.fromkeys(_named_results(step, declared), ())
    filled: dict[str, list[tuple[str, str]]] = defaultdict(list)
    for path, maker in makers.items():
        filled[posixpath.dirname(path) or "."].append((path, maker))
    for step in known.values():
        _find_listed(step, known, filled)
    _find_declared_order(known)
    for circle in _circles(known):
        for name in circle:
            others = [one for one in circle if one != name]
            known[name].odds.append(f"it reads what {', '.join(others)} made, and the other way round: in a circle")
    return Graph({name: known[name] for name in _in_order(known)})


def _makers(steps: Mapping[str, Step]) -> dict[str, str]:
    """By each result, the step that makes it; a file of two is told of both."""
    makers: dict[str, list[str]] = defaultdict(list)
    for step in steps.values():
        for file in step.analysis.result if step.analysis else ():
            makers[file.name].append(step.name)
    for path, names in makers.items():
        for name in names if len(names) > 1 else ():
            others = ", ".join(one for one in names if one != name)
            steps[name].odds.append(f"{path} is written by {others} too")
    return {path: names[0] for path, names in makers.items() if len(names) == 1}


def _find_earlier(step: Step, known: Mapping[str, Step], makers: Mapping[str, str]) -> None:
    by: dict[str, list[str]] = defaultdict(list)
    analysis = step.analysis
    unread = set(step.used.unread)
    for file in (*analysis.source, *analysis.input) if analysis else ():
        maker = makers.get(file.name)
        if maker is not None and maker != step.name and file.name not in unread:
            by[maker].append(file.path)
    for path in step.used.absent:  # what it looked for in vain may be what another makes
        maker = makers.get(path)
        if maker is not None and maker != step.name:
            by[maker].append(path)
    step.after = {name: tuple(files) for name, files in sorted(by.items())}
    for name in step.declared.after:
        if name in known and name != step.name:
            step.after.setdefault(name, ())


def _named_results(step: Step, declared: Mapping[str, Sequence[str]]) -> Iterator[str]:
    """Those whose declared results the command of one that never ran names.

    Args:
        declared: by steps, the patterns of their results.
    """
    words = [posixpath.normpath(word) for word in step.command]
    for name, patterns in declared.items():
        if name != step.name and any(fnmatchcase(word, pattern) for pattern in patterns for word in words):
            yield name


def _find_listed(step: Step, known: Mapping[str, Step], filled: Mapping[str, Sequence[tuple[str, str]]]) -> None:
    """Whoever puts files into a folder that a step looks through comes before it, unless it comes after it already.

    Args:
        filled: by folders, the files that steps put there, each with the step.
    """
    by: dict[str, list[str]] = defaultdict(list)
    for folder in step.used.listed:
        for path, maker in filled.get(folder, ()):
            if maker != step.name and maker not in step.after:
                by[maker].append(path)
    graph = Graph(dict(known))
    for maker, paths in sorted(by.items()):
        if step.name not in graph.before([maker]):
            step.after[maker] = tuple(paths)


def _find_declared_order(steps: Mapping[str, Step]) -> None:
    """What never ran is run after what is declared before it, unless that comes after it."""
    graph = Graph(dict(steps))
    groups: list[list[Step]] = []
    for step in steps.values():  # the runs of a sweep are one, and do not wait for each other
        if groups and step.declared.part_of and groups[-1][0].declared.part_of == step.declared.part_of:
            groups[-1].append(step)
        else:
            groups.append([step])
    last: list[Step] = []
    last_new: list[Step] = []
    for group in groups:
        new = [step for step in group if step.analysis is None]
        earlier = {one.name for one in (*last, *last_new)}
        for step in new if earlier else ():
            behind = graph.behind([step.name])
            step.follows = tuple(sorted(earlier - behind))
        last, last_new = group, new or last_new


def _circles(steps: Mapping[str, Step]) -> Iterator[list[str]]:
    """Sets of steps each of which comes after itself: strongly connected components (Tarjan 1972)."""
    number: dict[str, int] = {}
    low: dict[str, int] = {}
    held: list[str] = []
    for start in steps:
        if start in number:
            continue
        work: list[tuple[str, Iterator[str]]] = []

        def begin(name: str) -> None:
            number[name] = low[name] = len(number)
            held.append(name)
            work.append((name, iter([one for one in steps[name].after if one in steps])))  # noqa: B023

        begin(start)
        while work:
            name, left = work[-1]
            earlier = next(left, None)
            if earlier is None:
                work.pop()
                if work:
                    low[work[-1][0]] = min(low[work[-1][0]], low[name])
                if low[name] == number[name]:
                    at = held.index(name)
                    circle = held[at:]
                    del held[at:]
                    if len(circle) > 1:
                        yield sorted(circle)
            elif earlier not in number:
                begin(earlier)
            elif earlier in held:
                low[name] = min(low[name], number[earlier])


def _in_order(steps: Mapping[str, Step]) -> Iterator[str]:
    """The names, each after those that it comes after; where that is a circle, as they came."""
    waits = {name: {one for one in (*step.after, *step.follows) if one != name} for name, step in steps.items()}
    followers: dict[str, list[str]] = defaultdict(list)
    for name, earlier in waits.items():
        for one in earlier:
            followers[one].append(name)
    left = dict.fromkeys(steps)
    ready = [name for name, earlier in waits.items() if not earlier]
    while left:
        for name in ready or [next(iter(left))]:
            if name not in left:
                continue
            del left[name]
            yield name
        done, ready = ready or [name], []
        for one in done:
            for name in followers[one]:
                waits[name].discard(one)
                if not waits[name] and name in left:
                    ready.append(name)
