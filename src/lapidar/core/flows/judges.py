"""Who says whether an environment is good: the recorded results of an analysis, or a command's exit code."""

from __future__ import annotations

import hashlib
import os
import re
import subprocess
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Protocol

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from lapidar.core import atomic, languages
from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.runs import Runs
from lapidar.core.cache.store import Cache
from lapidar.core.changes.narrowing import Outcome
from lapidar.core.errors import CannotRun, LapidarError
from lapidar.core.flows import run as running
from lapidar.core.flows.choose import of_revision
from lapidar.core.flows.from_raw import rerun_chain
from lapidar.core.flows.rerun import Rerun, RerunOptions, rerun_of
from lapidar.core.place import Place
from lapidar.core.progress import Silent
from lapidar.core.records import results
from lapidar.core.records.results import Analysis
from lapidar.core.system import git

__all__ = ["ByChain", "ByCommand", "ByRecord", "Ending", "Judge", "analysis_of", "record_before"]

_CANNOT_TELL = 125  # the exit code by which a command says so
_COMMITS = 50  # that are looked through for an earlier record
_SIGNALS = 126  # from here on a shell or a signal speaks, and not the command


class Ending(msgspec.Struct, frozen=True, omit_defaults=True):
    """How one run ended, which is kept.

    Attributes:
        code: its exit code; None where it could not be run, or was ended.
        good: whether its results are those recorded, where they were compared.
        made: where they are not, what they are known by.
        said: why it did not end by itself, and the last that it said on standard error, a line each.
        at_most: where it did not end by itself, the seconds that it was given.
        differing: of a chain, the steps whose results are not those recorded, in their order.
    """

    code: int | None = None
    good: bool = False
    made: str = ""
    said: tuple[str, ...] = ()
    at_most: float | None = None
    differing: tuple[str, ...] = ()

    def holds(self, at_most: float | None) -> bool:
        """Whether a run that is given so long would end so too."""
        return self.at_most is None or (at_most is not None and at_most <= self.at_most)


class Judge(Protocol):
    """Says of an environment whether it is good."""

    @property
    def called(self) -> str:
        """What decides, for people."""

    @property
    def key(self) -> str:
        """A text that is another where it could say something else."""

    @property
    def at_most(self) -> float | None:
        """Seconds, after which it ends a run."""

    def run(self, environment: Path, *, draws: bool = False) -> Ending:
        """Run in an environment.

        Args:
            draws: keep the results to be drawn, where there are some.

        Raises:
            LapidarError: what is needed for the run is lost: that tells nothing of the environment.
        """

    def outcome(self, ending: Ending) -> Outcome:
        """What that means."""

    def learn(self, endings: Sequence[Ending]) -> None:
        """How runs on the bad side end: one that ends so is bad."""


def analysis_of(place: Place, name: str, command: str = "") -> Analysis:
    """A recorded analysis.

    Args:
        name: "" for the only one.
        command: that is to be typed again with a name; "" for culprit, which takes a judge instead too.

    Raises:
        LapidarError: there is none of that name; nothing or more than one is recorded.
    """
    recorded = results.read(place.records)
    if name:
        found = recorded.named(name)
        if found is None:
            raise LapidarError(f"There is no record of an analysis {name}", remedy="`lapidar show results` shows them.")
        return found
    if len(recorded.analysis) != 1:
        many = ", ".join(one.name for one in recorded.analysis)
        raise LapidarError(
            "Which result is meant is not said",
            why=f"recorded are {many}" if many else "nothing is recorded",
            remedy=f"Name an analysis: {command} NAME."
            if command and many
            else "Record one first: lapidar record NAME -- COMMAND."
            if command
            else "Name an analysis: lapidar culprit NAME; or a judge: lapidar culprit --good ID -- COMMAND.",
        )
    return recorded.analysis[0]


def _is_crash(ending: Ending) -> bool:
    """Whether a signal ended it, or it took longer than it was given."""
    return ending.at_most is not None or (ending.code is not None and not 0 <= ending.code < _SIGNALS)


def record_before(place: Place, cache: Cache, analysis: Analysis) -> Analysis | None:
    """The record of an analysis before this one that is of another snapshot: by the history of this cache, else by
    version control; None where neither has one."""
    copies = {copy.record: copy for _, copy in Runs(cache).copies() if isinstance(copy, Analysis)}
    here = [copies.get(note.record) for note in reversed(Runs(cache).notes()) if note.results == str(place.records)]
    for one in (*here, *_committed(place, analysis.name)):
        if one and one.name == analysis.name and one.snapshot != analysis.snapshot:
            return one
    return None


def _committed(place: Place, name: str) -> Iterator[Analysis | None]:
    """The records of an analysis in the commits of its file, the newest first."""
    words = ("log", "--format=%H", f"-{_COMMITS}", "--", place.records.name)
    try:
        commits = git.run(place.root, *words).stdout.decode("ascii", "replace").split()
        for commit in commits:
            text = of_revision(place, commit, place.records.name).decode("utf-8", "replace")
            yield results.parse(text).named(name)
    except (LapidarError, OSError, subprocess.SubprocessError):
        return


_PATH = re.compile(r"[^\s'\"`;|&<>()=]+")
_RECIPES = re.compile(r"(?i)makefile|.*\.(sh|bash|mk|pl|awk)")


def _programs(root: Path) -> list[str]:
    """The files at a project's root that are run, or say what is."""
    return [
        entry.name
        for entry in os.scandir(root)
        if entry.is_file() and (_RECIPES.fullmatch(entry.name) or os.access(entry.path, os.X_OK))
    ]


class ByCommand(Struct, dict=True):
    """A command in the project's folder: 0 is good, 125 cannot tell, any other below 126 is bad."""

    place: Place
    command: tuple[str, ...]
    at_most: float | None
    crash_is_bad: bool = False

    @property
    def called(self) -> str:
        return " ".join(self.command)

    @property
    def key(self) -> str:
        """The command, and as they are the files that may be what it runs: those that any part of its words names
        (``sh -c './judge'``), the project's sources in any language, and what is executable in it."""
        digest = hashlib.sha256("\0".join(self.command).encode("utf-8", "surrogateescape"))
        root = self.place.root
        named = {part for word in self.command for part in (word, *_PATH.findall(word))}
        sources = {file for language in languages.every() for file in languages.sources_of(language, root)}
        for name in sorted({*named, *sources, *_programs(root)}):
            path = root / name
            if path.is_file():
                digest.update(f"{name}\0{sha256_of(str(path))}\n".encode("utf-8", "surrogateescape"))
        return digest.hexdigest()

    def run(self, environment: Path, *, draws: bool = False) -> Ending:
        with atomic.WorkFolder(self.place.own_folder, "judging-") as work:
            printed, errors = (Path(work.path) / name for name in ("printed", "errors"))
            try:
                ready = running.prepare(self.place, self.command, environment)
                limits = running.Limits(at_most=self.at_most)
                code = ready.wait_in(self.place.root, printed, errors=errors, limits=limits).code
            except CannotRun as error:
                return Ending(said=(error.what,), at_most=self.at_most)
            return Ending(code, said=running.last_lines(errors))

    def outcome(self, ending: Ending) -> Outcome:
        if ending.code == 0:
            return Outcome.GOOD
        if self.crash_is_bad and _is_crash(ending):
            return Outcome.BAD
        speaks = ending.code is not None and 0 < ending.code < _SIGNALS and ending.code != _CANNOT_TELL
        return Outcome.BAD if speaks else Outcome.UNKNOWN

    def learn(self, endings: Sequence[Ending]) -> None:
        """Its exit codes mean what they mean."""


class ByRecord(Struct, dict=True):
    """The recorded results: those of another verdict than good are bad; a run that ends otherwise tells nothing, unless
    the bad side ends so.

    Attributes:
        drawn: the last run whose results were kept to be drawn, see `Rerun.forget`.
    """

    place: Place
    cache: Cache
    analysis: Analysis
    at_most: float | None
    drawn: Rerun | None = None
    crash_is_bad: bool = False
    _bad_code: int | None = None

    @property
    def called(self) -> str:
        return f"the recorded results of {self.analysis.name}"

    @property
    def key(self) -> str:
        declared = self.place.declaration
        told = declared.read_bytes() if declared.is_file() else b""  # tolerances are declared there
        return hashlib.sha256(self.analysis.record.encode() + told).hexdigest()

    def run(self, environment: Path, *, draws: bool = False) -> Ending:
        options = RerunOptions(environment=environment, at_most=self.at_most, draws=draws, quiet=True)
        try:
            return self._run(options)
        except CannotRun as error:
            return Ending(said=(error.what,), at_most=self.at_most)

    def _run(self, options: RerunOptions) -> Ending:
        return self._ending(rerun_of(self.place, self.cache, self.analysis, options), options)

    def _ending(self, done: Rerun, options: RerunOptions) -> Ending:
        if options.draws:
            self.drawn = done
        return Ending(done.exit_code, done.is_good, "" if done.is_good else done.made, done.said)

    def outcome(self, ending: Ending) -> Outcome:
        if self.crash_is_bad and _is_crash(ending):
            return Outcome.BAD
        if ending.code is None:
            return Outcome.UNKNOWN
        if ending.good:
            return Outcome.GOOD
        ends_so = ending.code in (self.analysis.exit_code, self._bad_code)
        return Outcome.BAD if ends_so else Outcome.UNKNOWN

    def learn(self, endings: Sequence[Ending]) -> None:
        codes = {ending.code for ending in endings}
        self._bad_code = codes.pop() if len(codes) == 1 else None


class ByChain(ByRecord, dict=True):
    """The recorded results of an analysis, run with all that it stands on, from the raw data on: each step gets what
    those before it made in the same environment. The last one decides.

    Attributes:
        chain: the records, in order; that of the analysis comes last.
    """

    chain: tuple[Analysis, ...] = ()

    @property
    def called(self) -> str:
        return f"{super().called}, run from the raw data on ({' -> '.join(one.name for one in self.chain)})"

    @property
    def key(self) -> str:
        return hashlib.sha256(" ".join([super().key, *(one.record for one in self.chain)]).encode()).hexdigest()

    def _run(self, options: RerunOptions) -> Ending:
        differing: list[str] = []
        for done in rerun_chain(self.place, self.cache, self.chain, options, Silent()):
            if not done.is_good:
                differing.append(done.analysis.name)
            if not done.ended_as_recorded and done.analysis.name != self.analysis.name:
                said = (f"{done.analysis.name}, which comes before, did not end as recorded", *done.said)
                return Ending(done.exit_code, False, done.made, said, differing=tuple(differing))
        return replace(self._ending(done, options), differing=tuple(differing))
