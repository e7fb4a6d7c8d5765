"""Complete: capture an environment, prove a command in it against the original there and then, take along what it
missed, and so on until it gives the same, or nothing more can be taken.

What only the watched run or a proof told of is declared, so that a later capture that watches nothing takes it too.
"""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path

from msgspec import Struct, field
from msgspec.structs import replace

from lapidar.core import foreign
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import editing, writing
from lapidar.core.environment.folder import Environment
from lapidar.core.errors import LapidarError
from lapidar.core.flows.capture import Captured, CaptureOptions, capture
from lapidar.core.flows.locate import locate
from lapidar.core.flows.prove import Missing, Proved, ProveOptions, prove_analysis
from lapidar.core.flows.record import unrecorded
from lapidar.core.flows.recording import RecordOptions
from lapidar.core.flows.rerun import RerunOptions
from lapidar.core.flows.restore import RestoreOptions, restore
from lapidar.core.flows.run import Run
from lapidar.core.layers import packaged
from lapidar.core.place import DECLARATION_NAME, Place
from lapidar.core.progress import Progress, Silent
from lapidar.core.records.owner import OBSERVED_RUN
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.restored import programs
from lapidar.core.restored.running import Prepared
from lapidar.core.system import fonts, owners
from lapidar.core.system.observed import ObservedRun
from lapidar.core.system.owners import SystemPackage

__all__ = ["Addition", "Completed", "capture_and_prove", "declare", "of_proof"]

_MOST_ROUNDS = 8


class Addition(Struct, frozen=True):
    """Something to be declared.

    Attributes:
        key: where in [needs].
        value: what is written there.
        path: what of it the original uses.
        owner: the operating system's package that has that; None: no package.
    """

    key: str
    value: str
    path: str
    owner: SystemPackage | None = None


class Completed(Struct):
    """What came of it.

    Attributes:
        captured, proved: of the last round.
        added: what was declared on the way, in the order of the rounds.
    """

    captured: Captured
    proved: Proved
    added: list[Addition] = field(default_factory=list)


def capture_and_prove(
    place: Place,
    cache: Cache,
    options: CaptureOptions,
    agrees: Callable[[Sequence[Addition]], bool],
    reporter: Progress | None = None,
) -> Completed:
    """Capture, restore and prove, until the command gives what it gives in the original environment.

    Args:
        options: with a command, which is run in the environment as it is, and watched.
        agrees: is shown what the original uses and a plain capture would not take; whether it is to be declared.

    Raises:
        LapidarError: it cannot be run here, captured, restored, or run alone.
    """
    reporter = reporter or Silent()
    if options.lock is not None:
        raise LapidarError(
            "What is to be proven is restored beside the project's own lockfile", remedy="Leave --lock out."
        )
    located = locate(place, options.environment, options.languages)[0]
    command = tuple(options.command or ())
    at = _ready(command, located.interpreter), Environment(located.interpreter.parent.parent)
    original, run = unrecorded(place, cache, command, at, RecordOptions(output=options.output), reporter)
    rounds = _Rounds(place, cache, replace(options, command=None), run, agrees, reporter)
    rounds.declare_what_was_seen()
    for _ in range(_MOST_ROUNDS):
        captured = capture(place, cache, rounds.options, reporter)
        restore(place, cache, captured.snapshot, RestoreOptions(), reporter)
        analysis = replace(original, snapshot=captured.snapshot.snapshot)
        proved = prove_analysis(place, cache, analysis, ProveOptions(rerun=RerunOptions(trusted=True)), reporter)
        if proved.proof is not None or not (rounds.declares(of_proof(proved.missing)) or rounds.watches_again()):
            break
        rounds.options = replace(rounds.options, review=None)
    return Completed(captured, proved, rounds.added)


def declare(place: Place, additions: Sequence[Addition]) -> None:
    """Write them into lapidar.toml, which may not be there yet.

    Raises:
        DeclarationError: it is no TOML.
    """
    text = foreign.read_text(place.declaration) if place.declaration.is_file() else ""
    for key in dict.fromkeys(one.key for one in additions):
        text = editing.with_system_needs(text, key, [one.value for one in additions if one.key == key])
    writing.write(place.root, {DECLARATION_NAME: text})


class _Rounds(Struct):
    """What was declared so far.

    Attributes:
        options: of the next capture.
        run: of the original.
    """

    place: Place
    cache: Cache
    options: CaptureOptions
    run: ObservedRun
    agrees: Callable[[Sequence[Addition]], bool]
    reporter: Progress
    added: list[Addition] = field(default_factory=list)
    declined: bool = False

    def declares(self, wanted: Iterable[Addition]) -> bool:
        """Declare what is new of it, where that is agreed to; whether anything was declared."""
        known = {(one.key, one.value) for one in self.added}
        new = [one for one in wanted if (one.key, one.value) not in known]
        if self.declined or not new:
            return False
        if not self.agrees(new):
            self.declined = True
            return False
        declare(self.place, new)
        self.added += new
        return True

    def declare_what_was_seen(self) -> None:
        """Declare what a capture that watches has, and one that does not has not: programs first, for much else comes
        with these."""
        seen, before = self._snapshot(self.run), self._snapshot(None)
        if self.declares(self._programs(before, seen)):
            before = self._snapshot(None)
        self.declares([*self._files(before, seen), *self._libraries(before, seen), *self._fonts(before, seen)])
        # Where all of it is declared or found by itself, what is captured is what anybody will capture later.
        if self.declined or before.packages != seen.packages:
            self.watches_again()

    def watches_again(self) -> bool:
        """Take what the run used also in what follows; whether that is new."""
        if self.options.observed is not None:
            return False
        self.options = replace(self.options, observed=self.run)
        return True

    def _snapshot(self, run: ObservedRun | None) -> Snapshot:
        how = replace(self.options, observed=run, writes=False, review=None)
        return capture(self.place, self.cache, how, self.reporter).snapshot

    def _programs(self, before: Snapshot, seen: Snapshot) -> Iterator[Addition]:
        mine = {tool.name for tool in before.tools}
        for tool in seen.tools:
            if tool.name not in mine:
                owner = SystemPackage.recorded(tool.owner, tool.owner_version)
                yield Addition("tools", _called(tool.name, f"/{tool.executable}"), f"/{tool.executable}", owner)

    def _files(self, before: Snapshot, seen: Snapshot) -> Iterator[Addition]:
        mine = {tool.name: self._paths(tool.tree) for tool in before.tools}
        new = {f"/{path}" for tool in seen.tools for path in self._paths(tool.tree) - mine.get(tool.name, set())}
        yield from _files(new)

    def _libraries(self, before: Snapshot, seen: Snapshot) -> Iterator[Addition]:
        there = {one.soname for one in before.libraries}
        for library in seen.libraries:
            if library.soname not in there and OBSERVED_RUN.user in library.used_by:
                owner = SystemPackage.recorded(library.owner, library.owner_version)
                yield Addition("libraries", library.soname, library.soname, owner)

    def _fonts(self, before: Snapshot, seen: Snapshot) -> Iterator[Addition]:
        layers = [one.library_layer for one in (before, seen)]
        held, more = (self._paths(layer.tree) if layer else set() for layer in layers)
        new = {os.path.basename(path) for path in more - held if path.startswith(f"{fonts.FOLDER}/")}
        of_tools = {f"/{path}" for tool in before.tools for path in self._paths(tool.tree)}
        opened = set(filter(fonts.is_font, self.run.opened)) - of_tools
        paths = sorted(path for path in opened if os.path.basename(path) in new)
        known = owners.here().of(paths)
        yield from (Addition("fonts", path, path, known.get(path)) for path in paths)

    def _paths(self, tree: str) -> set[str]:
        return {entry.path for entry in self.cache.tree(tree)}


def _called(name: str, path: str) -> str:
    """How a program is declared: by its name where that leads to it."""
    found = shutil.which(name)
    return name if found and os.path.realpath(found) == path else path


def _files(paths: Iterable[str]) -> Iterator[Addition]:
    """Files as what is declared: their packages, and those of no package as they are."""
    known = owners.here().of(paths := sorted(paths), of_links=True)
    for path in paths:
        owner = known.get(path)
        if owner:
            yield Addition("system-packages", owner.name, path, owner)
        elif not packaged.refused(path):
            yield Addition("files", path, path)


def of_proof(missing: Sequence[Missing]) -> Iterator[Addition]:
    """What the original uses and a run alone did not find, as far as it can be taken along."""
    used = [one for one in missing if one.was_used]
    for one in used:
        name = os.path.basename(one.path)
        if one.kind == "program":
            yield Addition("tools", _called(name, os.path.realpath(one.path)), one.path, one.owner)
        elif one.kind == "library":
            yield Addition("libraries", name, one.path, one.owner)
    yield from _files(one.path for one in used if one.kind == "file" and one.by_tool and not os.path.isdir(one.path))


def _ready(command: tuple[str, ...], interpreter: Path) -> Run:
    """The command as it runs where the original environment is active."""
    program, variables = programs.where_active(command[0], interpreter)
    return Run(program=program, words=command, prepared=Prepared(variables, (), None, None), snapshot="")
