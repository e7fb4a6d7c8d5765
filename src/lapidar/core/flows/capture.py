"""Capture: environment -> records and files -> lockfile and cache."""

from __future__ import annotations

import os
import shlex
import shutil
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from lapidar.core.cache.history import History
from lapidar.core.cache.seen import Seen
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import Draft, Stowed, stow
from lapidar.core.errors import LapidarError, PackageBroken, from_os_error
from lapidar.core.languages.python import locate, packages, probe, runtime
from lapidar.core.languages.python.scope import choose_used
from lapidar.core.layers.lower import Below
from lapidar.core.layers.lower import observe as observe_below
from lapidar.core.progress import Progress, Silent
from lapidar.core.project import Project
from lapidar.core.records import lockfile
from lapidar.core.records.snapshot import LIBRARIES, Snapshot
from lapidar.core.system.observed import Observed

__all__ = ["Captured", "LayerCount", "capture"]

_REMAINDER = "files of no package"


@dataclass(frozen=True, slots=True)
class LayerCount:
    """What a layer holds, and how much of it the cache did not have before. Sizes in bytes."""

    layer: str
    count: int
    files: int
    bytes: int
    new_bytes: int

    @property
    def reused_bytes(self) -> int:
        return self.bytes - self.new_bytes


@dataclass(frozen=True, slots=True)
class Captured:
    """What came of a capture.

    Attributes:
        located: which environment, and why that one.
        edited: for a package, the files that were edited after installation.
        left_out: what is not in the snapshot, a phrase each.
        changed: whether the lockfile has other content than before.
        unused: packages that are not in the snapshot because nothing of the project uses them, each with the reason.
    """

    snapshot: Snapshot
    lockfile: Path
    located: locate.Located
    layers: tuple[LayerCount, ...]
    edited: dict[str, list[str]]
    warnings: tuple[str, ...]
    left_out: tuple[str, ...]
    changed: bool
    unused: dict[str, str]
    seconds: float


def capture(
    project: Project,
    cache: Cache,
    *,
    environment: Path | None = None,
    lock: Path | None = None,
    full_runtime: bool = False,
    skip_outside: bool = False,
    scope: str | None = None,
    command: Sequence[str] | None = None,
    output: int = 1,
    reporter: Progress | None = None,
) -> Captured:
    """Capture an environment into the cache and write its lockfile.

    Args:
        project: where the lockfile goes, and whose environment is looked for.
        cache: keeps the bytes.
        environment: a folder or an interpreter; see `locate`.
        lock: writes the lockfile here instead.
        full_runtime: take the runtime's test suite and static archives too.
        skip_outside: leave out files that packages list outside the environment, instead of refusing.
        scope: ``used``, ``whole``, or None for `used` where the project declares or imports anything.
        command: runs this once in the environment, and takes also what it was seen to use.
        output: the descriptor that the command's standard output goes to.
        reporter: hears of progress.

    Returns:
        What was captured. The lockfile is written last; until then nothing has changed for a reader.

    Raises:
        EnvironmentUnusable: there is no such environment.
        PackageBroken: a package cannot be captured as it is.
        CacheError, NoSpace: the bytes cannot be kept.
    """
    began = time.monotonic()
    located = locate.locate(project, environment)
    answer = probe.ask(located.interpreter)
    cache.require_writable()
    path = lock or project.lockfile
    if not path.parent.is_dir():
        raise LapidarError(f"There is no folder {path.parent} for the lockfile", remedy="Name another with --lock.")
    observed = _observe(located.interpreter, command, output) if command else None
    with cache.in_use():
        try:
            found = packages.observe(answer, project, skip_outside=skip_outside)
            used = choose_used(project, answer, found, scope, cache, observed.opened if observed else ())
            base = runtime.observe(answer, found.claimed, full=full_runtime)
            below = observe_below(project, cache, answer, base, found, used, observed)
            seen = Seen(cache.root / "seen", answer.prefix)
            drafts = _drafts(base, found)
            stowed = stow(cache, drafts, seen, reporter or Silent())
            stowed |= below.stow(cache, reporter or Silent())
            snapshot = _snapshot(base, found, below, stowed)
            changed = not path.exists() or path.read_bytes() != lockfile.render(snapshot).encode()
            History(cache).add(snapshot, path.absolute())
            if changed:
                lockfile.write(snapshot, path)
            seen.save()
        except OSError as error:
            raise from_os_error(error, "capture the environment") from error
        except UnicodeEncodeError as error:
            raise PackageBroken(
                "A file of the environment has a name that is not UTF-8",
                why=repr(error.object),
                remedy="Rename it, or reinstall the package it belongs to.",
            ) from error
    return Captured(
        snapshot=snapshot,
        lockfile=path,
        located=located,
        layers=_count(snapshot, base, found, below, stowed),
        edited=_edited(found, stowed),
        warnings=(*_of_this_shell(), *found.warnings, *below.warnings),
        left_out=_left_out(base, found),
        changed=changed,
        unused=used.unused,
        seconds=time.monotonic() - began,
    )


def _observe(interpreter: Path, command: Sequence[str], output: int) -> Observed:
    """Run a command as if its environment were active.

    Raises:
        LapidarError: it cannot be run or observed, or it failed.
    """
    from lapidar.core.system import tracing as trace

    folder = str(interpreter.parent)
    variables = {**os.environ, "PATH": f"{folder}:{os.environ.get('PATH', os.defpath)}"}
    program = shutil.which(command[0], path=variables["PATH"])
    if program is None:
        raise LapidarError(
            f"There is no command {command[0]!r} in the environment or on PATH", remedy="Look at its spelling."
        )
    observed = trace.observe([os.path.abspath(program), *command[1:]], variables, output)
    if observed.code != 0:
        raise LapidarError(
            f"The observed run failed with exit code {observed.code}, and nothing was captured",
            why=shlex.join(command),
            remedy="Let it succeed first, or capture without --observe.",
        )
    return observed


def _of_this_shell() -> tuple[str, ...]:
    """Settings of the caller's shell that change what runs there, and that no snapshot holds."""
    added = os.environ.get("PYTHONPATH")
    return (f"PYTHONPATH is set here; what it adds ({added}) is not captured",) if added else ()


def _drafts(base: runtime.Observed, found: packages.Observed) -> dict[str, list[Draft]]:
    drafts = {base.label: base.drafts}
    drafts |= {package.label: package.drafts for package in found.packages}
    if found.remainder:
        drafts[_REMAINDER] = found.remainder
    return drafts


def _snapshot(base: runtime.Observed, found: packages.Observed, below: Below, stowed: dict[str, Stowed]) -> Snapshot:
    remainder = (found.remainder_record(stowed[_REMAINDER]),) if _REMAINDER in stowed else ()
    return lockfile.identified(
        runtime.platform(base.answer),
        base.record(stowed[base.label]),
        found.records(stowed, base.answer.markers),
        remainder,
        **below.records(stowed),
    )


def _count(
    snapshot: Snapshot,
    base: runtime.Observed,
    found: packages.Observed,
    below: Below,
    stowed: dict[str, Stowed],
) -> tuple[LayerCount, ...]:
    def count(layer: str, labels: list[str]) -> LayerCount:
        several = [stowed[label] for label in labels]
        return LayerCount(
            layer,
            len(several),
            sum(len(one.tree) for one in several),
            sum(one.tree.total_bytes for one in several),
            sum(one.new_bytes for one in several),
        )

    counts = [count("runtime", [base.label]), count("packages", [package.label for package in found.packages])]
    if snapshot.remainder:
        counts.append(count(_REMAINDER, [_REMAINDER]))
    if snapshot.libraries:
        counts.append(replace(count(LIBRARIES, [LIBRARIES]), count=len(snapshot.library)))
    if snapshot.tool:
        counts.append(count("outside programs", [tool.label for tool in below.tools.tools]))
    return tuple(counts)


def _edited(found: packages.Observed, stowed: dict[str, Stowed]) -> dict[str, list[str]]:
    edited = {package.metadata.name: package.edited(stowed[package.label]) for package in found.packages}
    return {name: files for name, files in edited.items() if files}


def _left_out(base: runtime.Observed, found: packages.Observed) -> tuple[str, ...]:
    return (*(f"runtime: {phrase}" for phrase in base.left_out), *base.notes, *found.notes)
