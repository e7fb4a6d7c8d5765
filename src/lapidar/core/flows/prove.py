"""Prove: a recorded analysis where nothing of this machine is in sight, while this machine still has everything:
whether it gives the same there, and what it looked for and did not find."""

from __future__ import annotations

import hashlib
import os
import re
import shlex
import time
from collections.abc import Iterable, Iterator, Mapping
from typing import Literal

from msgspec import Struct, field
from msgspec.structs import replace

from lapidar.core import atomic
from lapidar.core.cache.runs import RunNote, Runs
from lapidar.core.cache.store import Cache
from lapidar.core.environment import rooting
from lapidar.core.environment.folder import Environment
from lapidar.core.flows import run as running
from lapidar.core.flows.record import unrecorded
from lapidar.core.flows.recording import RecordOptions
from lapidar.core.flows.rerun import Rerun, RerunOptions, recorded, rerun_of
from lapidar.core.layers import packaged
from lapidar.core.layers import tools as tool_layer
from lapidar.core.place import Place
from lapidar.core.progress import Progress, Silent
from lapidar.core.records import results, words
from lapidar.core.records.results import Analysis, Proof
from lapidar.core.restored import alone
from lapidar.core.restored.alone import Elsewhere
from lapidar.core.restored.watched import Inside
from lapidar.core.system import elf, owners
from lapidar.core.system.loader import Loader, System
from lapidar.core.system.observed import Image
from lapidar.core.system.owners import SystemPackage

__all__ = ["Missing", "ProveOptions", "Proved", "prove", "prove_analysis", "prove_command"]

# What a system has of its own, and asks for by itself: each has another, and none of it is an analysis's.
_OF_EACH_SYSTEM = re.compile(
    r"/etc/(localtime|timezone|machine-id|mtab|g?shadow|environment|inputrc|os-release|debian_version|lsb-release"
    r"|ssl/.*|pki/.*|ca-certificates.*|gai\.conf|services|protocols)$"
    r"|/usr/share/i18n(/|$)|/etc$|/usr(/s?bin|/lib|/local|/local/s?bin|/share)?$|/s?bin$|/lib(64)?$|/home$|/root$"
    r"|/var(/tmp|/run|/lib)?$|/tmp$|/opt$"
)
# The loader's and the C library's own, which an environment has of its own.
_OF_LIBRARIES = re.compile(
    r"/etc/ld\.so\.|/(usr/)?lib(64)?(/[a-z0-9_]+-linux-gnu)?/(glibc-hwcaps|tls|haswell|x86_64|avx512_1)(/|$)"
    r"|.*/gconv/gconv-modules\.d$"
)
_PROGRAM = re.compile(r"/s?bin/[^/]+$")
_SHOWN = 3
_STATICALLY = "statically, or have its work done by what the environment has"
_LIBRARY = re.compile(r"[^/]+\.so(\.[\w.]+)?$")


class ProveOptions(Struct, frozen=True, kw_only=True):
    """How to prove.

    Attributes:
        rerun: as for a rerun.
        output: the descriptor that what a command prints goes to, when it is run here first.
        again: besides with another time zone, another language, one processor, and an older one where it can be
            emulated.
    """

    rerun: RerunOptions = field(default_factory=RerunOptions)
    output: int = 1
    again: bool = False


class Missing(Struct, frozen=True):
    """What a run looked for and did not find, though this machine has it.

    Attributes:
        path: where it is here.
        kind: a program that was to be started, a library that was to be opened by its name, or any other file.
        owner: the operating system's package that has it; None: no package.
        was_used: whether a run that has this machine in sight uses it; None: nobody looked.
        by_tool: whether it was an outside program that looked for it, whose files lie at their places.
        by_own: whether it is a library that a program of the project itself is linked to.
    """

    path: str
    kind: Literal["program", "library", "file"]
    owner: SystemPackage | None = None
    was_used: bool | None = None
    by_tool: bool = False
    by_own: bool = False


class Proved(Struct):
    """What came of it.

    Attributes:
        rerun: how it went.
        missing: what this machine has and the run did not find.
        borrowed: libraries of this machine's utilities that programs of the project ran with: each system has others.
        otherwise: how another machine may be besides, with which the results were others.
        varies: whether it gives other results here too, so that nothing can be said.
        by_variables: whether it does so where it is run with the variables of another user.
        proof: that it is proven; None: it is not.
    """

    rerun: Rerun
    missing: tuple[Missing, ...] = ()
    borrowed: tuple[str, ...] = ()
    otherwise: Elsewhere = alone.PLAIN
    varies: bool = False
    by_variables: bool = False
    proof: Proof | None = None

    @property
    def needs_network(self) -> bool:
        """Whether it wanted to talk to somebody, and nothing that it uses is missing: that may be why it is another."""
        lacks = any(one.was_used for one in self.missing)
        return bool(self.rerun.partners) and not self.rerun.is_good and not lacks

    @property
    def why_not(self) -> str:
        """Why it is not proven; "" where it is."""
        return self._reason()[0]

    @property
    def remedies(self) -> list[str]:
        """What would find out, or take along what is missing, a sentence each."""
        return self._reason()[1]

    def _reason(self) -> tuple[str, list[str]]:
        """Why it is not proven, and what would help."""
        if self.proof is not None:
            return "", []
        if self.rerun.not_apart:
            return "; ".join(self.rerun.not_apart), []
        if self.borrowed and self.rerun.is_good:
            return (
                f"a program of the project runs with this machine's {words.some(self.borrowed, _SHOWN)}",
                [f"link it {_STATICALLY}"],
            )
        if self.otherwise.called:
            return f"with {self.otherwise.called} its results are others", [self.otherwise.remedy]
        if self.needs_network:
            return (
                f"it talks to {words.some(self.rerun.partners, _SHOWN)}, and alone there is nobody",
                ["keep what comes from there as a file of the project, and read it from that"],
            )
        if self.by_variables:
            names = 'say which variables it needs, [conditions] env = ["NAME"] in lapidar.toml, and capture again'
            return (
                "with another user's variables its results are others",
                [f"{names}: a snapshot holds those to what they are here"],
            )
        if self.varies:
            return "also here, with all of this machine in sight, its results are others", [self._what_tells_more()]
        return "elsewhere its results would be others", list(self._what_takes_along())

    def _what_tells_more(self) -> str:
        analysis = self.rerun.analysis
        name = shlex.quote(analysis.name) if analysis.record else "varying"
        again = f"lapidar rerun {name} --times 3 tells what varies by itself"
        return again if analysis.record else f"lapidar record {name} -- {shlex.join(analysis.command)}; {again}"

    def _what_takes_along(self) -> Iterator[str]:
        of = {kind: [one.path for one in self.missing if one.kind == kind] for kind in ("program", "library", "file")}
        if not self.missing:
            yield "it hangs on who its user is, what the host is called, or another fact of this machine: give it that"
        if names := sorted({os.path.basename(path) for path in of["program"]}):
            tools = ", ".join(f'"{name}"' for name in names)
            yield f"write [needs] tools = [{tools}] into lapidar.toml, and capture or pin again"
        if of["library"]:
            command = shlex.join(self.rerun.analysis.command)
            yield f"lapidar capture --observe -- {command} takes along the libraries that it opens"
        if linked := [one.path for one in self.missing if one.by_own]:
            yield f"link the program of the project that needs {words.some(linked, _SHOWN)} {_STATICALLY}"
            of["file"] = [path for path in of["file"] if path not in linked]
        folders = [path for path in of["file"] if os.path.isdir(path)]
        declared = [one.path for one in self.missing if one.by_tool and not packaged.refused(one.path)]
        if files := [path for path in of["file"] if path in declared and path not in folders]:
            some = ", ".join(f'"{path}"' for path in files[:_SHOWN])
            yield f"write [needs] files = [{some}] into lapidar.toml, and capture again: outside programs get them"
        if files := [path for path in of["file"] if path not in declared and path not in folders]:
            some = words.some(files, _SHOWN)
            yield f"copy {some} into the project, and read it there: a place of this machine does not travel"
        if folders:
            some = words.some(folders, _SHOWN)
            yield f"it looks into {some} by itself: tell it of a folder in the project, if it can be told"


def prove(
    place: Place, cache: Cache, name: str, options: ProveOptions | None = None, reporter: Progress | None = None
) -> Proved:
    """Prove a recorded analysis; the proof is kept beside its record.

    Raises:
        RecordUnknown: as for a rerun.
        NoRoot: this kernel lets no root of its own be made: nothing can be said.
        LapidarError: it cannot be run.
    """
    analysis = recorded(place, name)
    options, reporter = options or ProveOptions(), reporter or Silent()
    found = prove_analysis(place, cache, analysis, options, reporter)
    if found.proof is not None:
        _keep(place, cache, analysis, found)
    return found


def prove_command(
    place: Place, cache: Cache, command: tuple[str, ...], options: ProveOptions, reporter: Progress | None = None
) -> Proved:
    """Run a command here, and then where nothing of this machine is in sight, and compare; nothing is recorded.

    Raises:
        LapidarError: it cannot be run.
    """
    reporter = reporter or Silent()
    how = RecordOptions(at_most=options.rerun.at_most, output=options.output)
    at = running.prepare(place, command, cache=lambda: cache), Environment(place.environment)
    analysis, _ = unrecorded(place, cache, command, at, how, reporter)
    trusting = replace(options, rerun=replace(options.rerun, trusted=True))
    return prove_analysis(place, cache, analysis, trusting, reporter)


def prove_analysis(place: Place, cache: Cache, analysis: Analysis, options: ProveOptions, reporter: Progress) -> Proved:
    """Prove what a run gave that stands in no file, perhaps; nothing is kept of the proof."""
    how = replace(options.rerun, alone=alone.PLAIN, quiet=True)
    done = rerun_of(place, cache, analysis, how, reporter)
    environment = Environment(done.environment)
    found = Proved(done, tuple(_missing(place, environment, done)))
    for besides in alone.others() if options.again and done.is_good else ():
        again = rerun_of(place, cache, analysis, replace(how, alone=besides, keep=None, trusted=True), reporter)
        if not again.is_good:
            found.rerun, found.otherwise = again, besides
            return found
    found.borrowed = tuple(sorted(_borrowed(place, environment, done)))
    if done.is_good and not done.not_apart and not found.borrowed:
        found.proof = _proof(analysis, done)
        found.missing = tuple(one for one in found.missing if not os.path.isdir(one.path))
        return found
    # Only now is it worth another run: what of it does one use that has this machine in sight?
    seen = replace(how, alone=None, watches=True, trusted=True, environment=done.environment, keep=None, draws=False)
    here = rerun_of(place, cache, analysis, seen, reporter)
    found.varies = not here.is_good
    if not found.missing and not found.varies:
        told = replace(seen, told={**alone.VARIABLES, "PATH": os.environ.get("PATH", alone.PATH)}, watches=False)
        found.by_variables = not rerun_of(place, cache, analysis, told, reporter).is_good
    is_told = found.needs_network or found.by_variables or found.varies
    missing = found.missing if found.missing or is_told else _missing(place, environment, done, every=True)
    used = _used(here)
    judged = (replace(one, was_used=os.path.realpath(one.path) in used) for one in missing)
    # A folder that is missing matters where something in it is used.
    found.missing = tuple(one for one in judged if one.was_used or not os.path.isdir(one.path))
    return found


def _borrowed(place: Place, environment: Environment, done: Rerun) -> set[str]:
    """What of the utilities' libraries was mapped by programs of the project: they are linked to this machine's."""
    inside = Inside(place, environment)
    own = os.path.realpath(environment.folder) + "/"
    found = set()
    for image, paths in done.observed.by.items():
        if inside.has(image.running) and not image.running.startswith(own):
            found |= {path for path in paths if ".so" in os.path.basename(path) and not inside.has(path)}
    return found


def _used(here: Rerun) -> set[str]:
    """The files that a run used, and all folders above them."""
    files = {*here.observed.opened, *here.observed.mapped, *map(os.path.realpath, here.observed.executed)}
    found = set(files)
    for folder in {os.path.dirname(path) for path in files}:
        while folder not in found:
            found.add(folder)
            folder = os.path.dirname(folder)
    return found


def _missing(place: Place, environment: Environment, done: Rerun, *, every: bool = False) -> Iterator[Missing]:
    """What this machine has and a run looked for in vain.

    Args:
        every: also what each system has of its own, and asks for by itself.
    """
    inside = Inside(place, environment)
    by_name = {os.path.basename(path) for path in done.observed.mapped}
    loader = Loader(System.here(), elf.read)
    paths: dict[str, Literal["program", "library", "file"]] = {}
    tools = inside.environment + tool_layer.FOLDER
    by_tools = {path for image, every in done.absent.items() if image.started.startswith(tools) for path in every}
    own = (every for image, every in done.absent.items() if not image.started.startswith(inside.environment))
    by_own = {path for every in own for path in every if _LIBRARY.search(path)}
    asked: dict[str, set[str]] = {}  # the names by which each was looked for
    for path in _of_environment(done.absent, inside):
        name = os.path.basename(path)
        if name in by_name:
            continue  # it was found elsewhere
        if inside.has(path):
            library = loader.find(name) if _LIBRARY.fullmatch(name) else None
            paths |= {library: "library"} if library else {}
        elif os.path.lexists(path) and not _OF_LIBRARIES.match(path) and (every or not _OF_EACH_SYSTEM.match(path)):
            # /bin and /usr/bin may be one.
            plain = os.path.join(os.path.realpath(os.path.dirname(path)), name)
            asked.setdefault(plain, set()).add(path)
            paths[plain] = "program" if _PROGRAM.search(plain) and os.access(plain, os.X_OK) else "file"
    known = owners.here().of(paths, of_links=True)
    for path, kind in sorted(paths.items()):
        names = asked.get(path, set())
        yield Missing(path, kind, known.get(path), by_tool=bool(names & by_tools), by_own=bool(names & by_own))


def _of_environment(absent: Mapping[Image, Iterable[str]], inside: Inside) -> Iterator[str]:
    """What programs of the environment looked for; what the system's own utilities do is theirs, but for the programs
    that a shell is to start; and what makes a root for a program looks for nothing of it."""
    helper = inside.environment + rooting.HELPER
    for image, paths in absent.items():
        if image.started == helper:
            continue
        is_own = inside.has(image.running) or inside.has(image.started)
        yield from (path for path in paths if is_own or _PROGRAM.search(path))


def _proof(analysis: Analysis, done: Rerun) -> Proof:
    lines = "".join(f"{one.path}\0{one.verdict}\n" for one in done.compared)
    made = "".join(f"{one.path}\0{one.sha256}\n" for one in analysis.result)
    digest = hashlib.sha256(f"{analysis.printed}\n{made}{lines}".encode("utf-8", "surrogateescape")).hexdigest()
    kernel = os.uname()
    return Proof(
        name=analysis.name,
        record=analysis.record,
        verdict=str(done.verdict),
        results=digest,
        numerics=analysis.numerics,
        machine=kernel.machine,
        kernel=kernel.release.partition("-")[0],
    )


def _keep(place: Place, cache: Cache, analysis: Analysis, found: Proved) -> None:
    """Write the proof beside the record, if that is still what it was."""
    assert found.proof is not None
    with atomic.locked(place.own_folder):
        before = results.read(place.records)
        if before.named(analysis.name) != analysis:
            return
        results.write(results.with_proof(before, found.proof), place.records)
    if cache.writable:
        file, machine = str(place.records), found.proof.machine
        note = RunNote(time.time(), analysis.record, file, found.rerun.seconds, 0, machine, is_proof=True)
        Runs(cache).add(analysis, note)
