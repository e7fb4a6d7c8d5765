"""Who says whether an environment is good: the recorded results of an analysis, or a command's exit code."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from lapidar.core import atomic
from lapidar.core.cache.store import Cache
from lapidar.core.changes.narrowing import Outcome
from lapidar.core.errors import LapidarError
from lapidar.core.flows import run as running
from lapidar.core.flows.rerun import Rerun, RerunOptions, rerun
from lapidar.core.project import Project
from lapidar.core.records import results
from lapidar.core.records.results import Analysis

__all__ = ["ByCommand", "ByRecord", "Judge", "analysis_of"]

_CANNOT_TELL = 125  # the exit code by which a command says so
_SIGNALS = 126  # from here on a shell or a signal speaks, and not the command


class Judge(Protocol):
    """Says of an environment whether it is good."""

    @property
    def called(self) -> str:
        """What decides, for people."""

    @property
    def key(self) -> str:
        """A text that is another where it could say something else."""

    def outcome(self, environment: Path) -> Outcome:
        """What it says of one environment."""


def analysis_of(project: Project, name: str) -> Analysis:
    """A recorded analysis.

    Args:
        name: "" for the only one.

    Raises:
        LapidarError: there is none of that name; nothing or more than one is recorded.
    """
    recorded = results.read(project.root / results.FILE_NAME)
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
            remedy="Name an analysis: lapidar culprit NAME; or a judge: lapidar culprit --good ID -- COMMAND.",
        )
    return recorded.analysis[0]


@dataclass
class ByCommand:
    """A command in the project's folder: 0 is good, 125 cannot tell, any other below 126 is bad."""

    project: Project
    command: tuple[str, ...]
    at_most: float | None

    @property
    def called(self) -> str:
        return " ".join(self.command)

    @property
    def key(self) -> str:
        """The command, and the files that it names, as they are."""
        digest = hashlib.sha256("\0".join(self.command).encode("utf-8", "surrogateescape"))
        for word in self.command:
            path = self.project.root / word
            if path.is_file():
                digest.update(path.read_bytes())
        return digest.hexdigest()

    def outcome(self, environment: Path) -> Outcome:
        ready = running.prepare(self.project, self.command, environment)
        with atomic.WorkFolder(self.project.own_folder, "judging-") as work:
            try:
                code = ready.wait_in(self.project.root, Path(work.path) / "printed", at_most=self.at_most)
            except LapidarError:
                return Outcome.UNKNOWN
        if code == 0:
            return Outcome.GOOD
        return Outcome.UNKNOWN if code < 0 or code == _CANNOT_TELL or code >= _SIGNALS else Outcome.BAD


@dataclass
class ByRecord:
    """The recorded results: those of another verdict than good are bad; a run that ends otherwise tells nothing, unless
    the bad side ends so."""

    project: Project
    cache: Cache
    analysis: Analysis
    at_most: float | None
    bad_code: int | None = None
    last: Rerun | None = None

    @property
    def called(self) -> str:
        return f"the recorded results of {self.analysis.name}"

    @property
    def key(self) -> str:
        declared = self.project.declaration
        told = declared.read_bytes() if declared.is_file() else b""  # tolerances are declared there
        return hashlib.sha256(self.analysis.record.encode() + told).hexdigest()

    def outcome(self, environment: Path) -> Outcome:
        try:
            done = self.run(environment)
        except LapidarError:
            return Outcome.UNKNOWN
        if done.is_good:
            return Outcome.GOOD
        if done.exit_code != self.analysis.exit_code:
            return Outcome.BAD if done.exit_code == self.bad_code else Outcome.UNKNOWN
        return Outcome.BAD

    def run(self, environment: Path, *, draws: bool = False) -> Rerun:
        """Run it again in an environment; with `draws`, keep the files of both sides (see `Rerun.forget`)."""
        options = RerunOptions(environment=environment, at_most=self.at_most, draws=draws)
        return rerun(self.project, self.cache, self.analysis.name, options)
