"""Check: declaration, lockfile, restored environment, host and cache against each other. Each is judged where it is at
home; here the findings are put together."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
from msgspec import Struct

from lapidar.core import progress
from lapidar.core.cache.files import FileFlaw
from lapidar.core.cache.store import Cache
from lapidar.core.environment import comparing
from lapidar.core.environment.folder import Environment
from lapidar.core.environment.linked import unlinked
from lapidar.core.environment.marker import WhoseLibraries
from lapidar.core.environment.status import Walking
from lapidar.core.flows import choose, compare
from lapidar.core.place import Place
from lapidar.core.records import words
from lapidar.core.records.findings import Finding, Problem
from lapidar.core.records.owner import Layer, Owner
from lapidar.core.records.snapshot import Snapshot

if TYPE_CHECKING:
    from lapidar.core.cache.contents import Contents
    from lapidar.core.layers.protocol import Judgement
    from lapidar.core.records.declared import OverrideStanding
    from lapidar.core.restored.assemble import Derived
    from lapidar.core.restored.live import Live
    from lapidar.core.restored.watched import Watched
    from lapidar.core.system.host import HostDrift

__all__ = ["CheckOptions", "Checked", "check"]


class CheckOptions(msgspec.Struct, frozen=True, kw_only=True):
    """What to compare.

    Attributes:
        environment: where it was restored; the project's own unless given.
        deep: read every byte instead of comparing inodes, sizes and times.
        live: run the interpreters, load everything, and read their memory maps.
        command: run this instead, as `run` would, and see which files it and its children use.
        output: the descriptor that its standard output goes to.
        as_placed: an environment that was restored from another snapshot on purpose is judged by that.
    """

    environment: Path | None = None
    as_placed: bool = True
    deep: bool = False
    live: bool = False
    command: tuple[str, ...] = ()
    output: int = 1


class Checked(msgspec.Struct, frozen=True, kw_only=True):
    """What a check found.

    Attributes:
        overrides: how each of the project's overrides acts.
        libraries: whose system libraries the environment runs with.
        drift: how the host's libraries differ from the recorded ones.
        live: what the running environment was seen to use, where that was asked for.
        watched: what the command was seen to use, likewise.
        remarks: what changes nothing, and is worth knowing, a sentence each.
    """

    snapshot: Snapshot
    environment: Path
    deep: bool
    files: int
    findings: tuple[Finding, ...] = ()
    overrides: tuple[OverrideStanding, ...] = ()
    libraries: WhoseLibraries = WhoseLibraries.HOST
    drift: HostDrift | None = None
    live: Live | None = None
    watched: Watched | None = None
    remarks: tuple[str, ...] = ()

    @property
    def clean(self) -> bool:
        """Whether there is nothing to say."""
        return not self.findings


def check(
    place: Place,
    cache: Cache,
    snapshot: Snapshot,
    options: CheckOptions | None = None,
    *,
    walking: Walking | None = None,
    reporter: progress.Progress | None = None,
) -> Checked:
    """Compare a snapshot with its restored environment and with the cache.

    Args:
        walking: the walk of the environment, where it was begun already.

    Returns:
        The findings, by layer.
    """
    options, reporter = options or CheckOptions(), reporter or progress.Silent()
    environment = Environment(Path(os.path.abspath(options.environment or place.environment)))
    walking = walking or Walking(environment.folder)
    with cache.in_use():
        placed = choose.placed_snapshot(cache, environment, snapshot) if options.as_placed else snapshot
        part = _restored_part(placed, environment)
        sides = _Sides(part, environment, walking, cache, place)
        # All that needs no walk is done while other processes walk.
        lost = None if options.deep else sides.lost()
        lower = _judge_layers(part, environment, cache)
        compared = sides.in_all(reporter) if options.deep else sides.at_a_glance(lost)
        declared, overrides = _judge_declaration(place, snapshot, cache)
        findings = [*declared, *_judge_members(place, snapshot), *compared]
        findings += [finding for judgement in lower for finding in judgement.findings]
        findings += _judge_results(place, part, cache)
        live = watched = None
        if options.live and options.command:
            watched = _watch(place, cache, environment, options)
            findings += watched.findings()
        elif options.live:
            live = _look(place, cache, part, environment, reporter)
            findings += live.findings(environment.is_private, part) if live else ()
    return Checked(
        snapshot=part,
        environment=environment.folder,
        deep=options.deep,
        files=_files(part, environment.libraries),
        findings=tuple(findings),
        overrides=overrides,
        libraries=environment.libraries,
        drift=next((judgement.drift for judgement in lower if judgement.drift), None),
        live=live,
        watched=watched,
        remarks=(
            *_chosen(environment, placed, snapshot),
            *(remark for judgement in lower for remark in judgement.remarks),
        ),
    )


def _chosen(environment: Environment, placed: Snapshot, locked: Snapshot) -> Iterator[str]:
    if placed is not locked and placed.snapshot != locked.snapshot and environment.marker:
        yield (
            f"the environment is of snapshot {words.short(placed.snapshot)}, as restored with "
            f"{environment.marker.chosen}; the lockfile is of {words.short(locked.snapshot)}"
        )


def _judge_results(place: Place, snapshot: Snapshot, cache: Cache) -> Iterator[Finding]:
    if place.records.is_file():
        from lapidar.core.results import standing

        yield from standing.judge(place, snapshot, cache)


def _restored_part(snapshot: Snapshot, environment: Environment) -> Snapshot:
    """The part of a snapshot that was restored: without the groups that were left out then."""
    if environment.marker is None or not environment.marker.left_out:
        return snapshot
    from lapidar.core.records import selection  # seldom needed, and a check is to be quick

    return selection.without(snapshot, environment.marker.left_out)


def _files(snapshot: Snapshot, libraries: WhoseLibraries) -> int:
    """How many files are compared."""
    private = (Layer.LIBRARIES, Layer.TOOLS)
    return sum(
        part.files
        for part in snapshot.parts()
        if libraries is WhoseLibraries.PRIVATE or part.owner.layer not in private
    )


# ---- the environment


class _Sides(Struct, frozen=True):
    """What is compared: a snapshot, what was placed of it, and the cache.

    Attributes:
        snapshot: the part of the lockfile's that was restored.
        walking: the walk of the environment, going on.
        place: the project.
    """

    snapshot: Snapshot
    environment: Environment
    walking: Walking
    cache: Cache
    place: Place

    def lost(self) -> list[str] | None:
        """The files of the environment that the cache does not have any more; None where that cannot be told."""
        return unlinked(self.cache, self.snapshot, self.environment)

    def in_all(self, reporter: progress.Progress) -> list[Finding]:
        """Environment and cache, every byte."""
        contents = _contents(self.snapshot, self.cache)
        of_cache = _judge_cache(self.snapshot, contents, True, reporter)
        return [*self._by_bytes(contents, reporter), *of_cache]

    def at_a_glance(self, lost: list[str] | None) -> list[Finding]:
        """Environment and cache, by inodes, sizes and times."""
        of_environment = self._by_status()
        if lost is not None and not lost and not of_environment:
            return []  # the environment is as it was placed, and linked to all that it was linked to
        contents = _contents(self.snapshot, self.cache)
        of_cache = _judge_cache(self.snapshot, contents, False, progress.Silent())
        if lost and not of_environment:
            of_environment = self._unlinked(lost, contents)
        return [*of_environment, *of_cache]

    def _by_status(self) -> list[Finding]:
        not_of = compare.is_of(self.snapshot, self.environment)
        listed = self.environment.manifest
        must = comparing.expected(listed) if listed and not not_of else {}
        found = self.walking.result()
        if not_of or listed is None:
            return [not_of] if not_of else []
        made = compare.made_by_running(self.snapshot)
        altered = comparing.by_status(self.environment.folder, listed, found, must, made)
        return compare.findings(self.snapshot, listed, altered)

    def _by_bytes(self, contents: Contents, reporter: progress.Progress) -> list[Finding]:
        """What of the environment the cache cannot say any more is compared by its status, and the judgement of the
        cache says what is lost."""
        not_of = compare.is_of(self.snapshot, self.environment)
        derived = None if not_of else self._derived(contents)
        if derived is None:
            return self._by_status()
        return compare.by_bytes(self.snapshot, self.environment, derived, self.walking.result(), contents, reporter)

    def _unlinked(self, paths: list[str], contents: Contents) -> list[Finding]:
        """Read the files of the environment that the cache has lost, or set aside as bad. Where that is all of them,
        the cache is a copy of the one that the environment was restored from, and nothing is to be said."""
        listed = self.environment.manifest
        if listed is None or len(paths) > comparing.COPIED_SHARE * len(listed.inodes):
            return []
        derived = self._derived(contents)
        return compare.some_by_bytes(self.snapshot, self.environment, derived, paths) if derived else []

    def _derived(self, contents: Contents) -> Derived | None:
        from lapidar.core.restored import own_packages

        links = bool(self.environment.marker and self.environment.marker.live)
        project = own_packages.to_project(self.place, self.snapshot, self.environment.folder, self.cache, links=links)
        return compare.derived_part(self.snapshot, self.environment, contents, project)


# ---- the layers below, and what runs


def _judge_layers(snapshot: Snapshot, environment: Environment, cache: Cache) -> list[Judgement]:
    from lapidar.core.layers import conditions
    from lapidar.core.layers.protocol import Judged

    at = Judged(environment, cache)
    judgements = []
    if snapshot.libraries:
        from lapidar.core.layers import libraries

        judgements.append(libraries.judge(snapshot, at))
    if snapshot.tools:
        from lapidar.core.layers import tools

        judgements.append(tools.judge(snapshot, at))
    return [*judgements, conditions.judge(snapshot, at)]


def _look(
    place: Place, cache: Cache, snapshot: Snapshot, environment: Environment, reporter: progress.Progress
) -> Live | None:
    if not environment.folder.is_dir():
        return None
    from lapidar.core.restored.live import look

    return look(place, cache, snapshot, environment, reporter)


def _watch(place: Place, cache: Cache, environment: Environment, options: CheckOptions) -> Watched:
    from lapidar.core.flows import run
    from lapidar.core.restored.watched import watch

    prepared = run.prepare(place, options.command, options.environment, cache=lambda: cache)
    return watch(place, environment, prepared.program, prepared.words[1:], prepared.prepared, options.output)


# ---- the declaration


def _judge_members(place: Place, snapshot: Snapshot) -> Iterator[Finding]:
    """The packages of the project's own whose sources are others than were built."""
    if not any(one.origin.sources for one in snapshot.packages):
        return
    from lapidar.core.restored.own_packages import was_edited

    for one in snapshot.packages:
        if was_edited(one, place):
            yield Finding(Layer.PACKAGES, Problem.MEMBER_EDITED, one.owner, details=(one.origin.path or "",))


def _judge_declaration(
    place: Place, snapshot: Snapshot, cache: Cache
) -> tuple[list[Finding], tuple[OverrideStanding, ...]]:
    """What declaration and lockfile do not agree on, and how overrides act."""
    from lapidar.core.declaring import files

    if not files.may_declare(place):
        return [], ()  # nothing is loaded for a project that declares nothing
    from lapidar.core.declaring import judge, reading

    declaration = reading.read(place)
    findings = list(judge.drift(declaration, snapshot))
    if declaration.needs:
        from lapidar.core.flows.survey import judge_imports

        findings += judge_imports(place, snapshot, cache)
    own = {one.key for one in snapshot.packages if one.origin.sources}
    if not declaration.overrides.keys() - own:
        return findings, ()
    told = judge.overrides(declaration, judge.graph(snapshot, declaration, cache, declaration.overrides))
    return findings, tuple(one for one in told if one.package not in own)


# ---- the cache


def _contents(snapshot: Snapshot, cache: Cache) -> Contents:
    from lapidar.core.cache.contents import Contents

    return Contents(cache, snapshot)


def _judge_cache(snapshot: Snapshot, contents: Contents, deep: bool, reporter: progress.Progress) -> list[Finding]:
    """What the cache lacks, or holds altered, of a snapshot and of what is derived from it."""
    from lapidar.core.restored import assemble

    if contents.has_nothing:
        return [Finding(Layer.CACHE, Problem.NOTHING_OF_IT, name=str(contents.cache.root))]
    unreadable: list[Finding] = []
    lost: dict[Owner, list[str]] = {}
    corrupt: dict[Owner, list[str]] = {}
    of_snapshot = contents.flaws(deep=deep, reporter=reporter)
    of_derived = assemble.flaws_of_derived(snapshot, contents, deep=deep, reporter=reporter)
    for flaw in (*of_snapshot, *of_derived):
        if flaw.kind is None:
            unreadable.append(Finding(Layer.CACHE, Problem.UNREADABLE, flaw.owner, details=(flaw.why,)))
        else:
            (lost if flaw.kind is FileFlaw.MISSING else corrupt).setdefault(flaw.owner, []).append(flaw.path)
    findings = unreadable
    for part in snapshot.parts():
        for problem, by_owner in ((Problem.LOST, lost), (Problem.CORRUPT, corrupt)):
            if paths := by_owner.get(part.owner):
                findings.append(Finding(Layer.CACHE, problem, part.owner, paths=tuple(paths)))
    return findings
