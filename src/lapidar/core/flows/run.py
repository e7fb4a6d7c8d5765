"""Run: a command in the restored environment, under the conditions of its snapshot."""

from __future__ import annotations

import os
import shlex
import subprocess
from collections.abc import Callable, Mapping, Sequence
from errno import EACCES
from pathlib import Path
from types import MappingProxyType
from typing import TYPE_CHECKING, NoReturn

import msgspec

from lapidar.core.environment.folder import Environment
from lapidar.core.environment.marker import Marker
from lapidar.core.errors import CannotRun, LapidarError
from lapidar.core.place import Place
from lapidar.core.records import lockfile, selection
from lapidar.core.restored import programs, running
from lapidar.core.restored.running import Prepared

if TYPE_CHECKING:  # a run itself needs no cache, and what becomes the command watches nothing
    from lapidar.core.cache.store import Cache
    from lapidar.core.system.supervision import Ended, Root

__all__ = ["FREE", "Limits", "Run", "is_chosen", "last_lines", "named_from", "prepare"]

_LAST_LINES, _LAST_BYTES = 3, 4096


class Limits(msgspec.Struct, frozen=True, kw_only=True):
    """What a run in a scratch copy gets, and what it may do.

    Attributes:
        typed: the file that it reads on standard input; nothing unless given.
        at_most: seconds, after which it is ended.
        watches: whether what it uses is told.
        writable: folders below which alone it may write, and then with no network but a loopback; None: anything.
        root: it sees that instead of this machine's files; what it looks for there and does not find is told.
        one_processor: whether it has one processor alone.
        has_rooted: whether it may start programs that make roots of their own.
    """

    typed: Path | None = None
    at_most: float | None = None
    watches: bool = False
    writable: tuple[str, ...] | None = None
    root: Root | None = None
    one_processor: bool = False
    has_rooted: bool = False


FREE = Limits()


class Run(msgspec.Struct, frozen=True):
    """A run that is ready to begin.

    Attributes:
        program: the file to execute.
        words: the command, as it was given.
        prepared: its variables and its umask.
        snapshot: that of the environment.
        locked: that of the project's lockfile, where it is another one; "" otherwise.
        chosen: how that other one was asked for; "" where it was not.
    """

    program: str
    words: tuple[str, ...]
    prepared: Prepared
    snapshot: str
    locked: str = ""
    chosen: str = ""

    def become(self) -> NoReturn:
        """Take this process's place: signals and the exit code are then the command's own.

        Raises:
            LapidarError: the program cannot be executed.
        """
        if self.prepared.umask is not None:
            os.umask(self.prepared.umask)
        try:
            os.execve(self.program, self.words, self.prepared.variables)
        except OSError as error:
            raise _cannot_run(self.program, error) from error

    def wait(self, *, output: int | None = None) -> int:
        """Run it beside this process, and wait for its end.

        Args:
            output: the descriptor that its standard output goes to; this process's own unless given.

        Returns:
            Its exit code; negative where a signal ended it.

        Raises:
            LapidarError: the program cannot be executed.
        """
        try:
            done = subprocess.run(
                self.words,
                executable=self.program,
                env=self.prepared.variables,
                stdout=output,
                umask=-1 if self.prepared.umask is None else self.prepared.umask,
                check=False,
            )
        except OSError as error:
            raise _cannot_run(self.program, error) from error
        return done.returncode

    def wait_in(
        self,
        folder: Path,
        printed: Path,
        *,
        errors: Path | None = None,
        also_to: int | None = None,
        more: Mapping[str, str] = MappingProxyType({}),
        limits: Limits = FREE,
    ) -> Ended:
        """Run it in a folder, and wait for its end and that of whatever it started.

        Args:
            printed: the file that its standard output goes to.
            errors: the file that its standard error goes to; this process's own unless given.
            also_to: a descriptor that gets the same when it has ended.
            more: variables beside its own.
            limits: what it gets, and what it may do.

        Returns:
            How it ended.

        Raises:
            CannotRun: the program cannot be executed, or took too long.
        """
        from lapidar.core.system import supervision
        from lapidar.core.system.supervision import RunOptions

        with (
            open(limits.typed or os.devnull, "rb") as typed,
            printed.open("wb") as output,
            open(errors or os.devnull, "wb") as said,
        ):
            how = RunOptions(
                input=typed.fileno(),
                output=output.fileno(),
                errors=said.fileno() if errors else None,
                folder=str(folder),
                umask=self.prepared.umask,
                session=True,
                at_most=limits.at_most,
                grace=0,
                watches=limits.watches or limits.root is not None,
                absent=limits.root is not None,
                root=limits.root,
                one_processor=limits.one_processor,
                network=limits.writable is None,
                writable=limits.writable or (),
                by_mounts=limits.has_rooted,
            )
            ended = supervision.run(self.program, self.words, {**self.prepared.variables, **more}, how)
        if ended.is_late:
            raise CannotRun(f"The run was ended after {limits.at_most:g} s")
        if also_to is not None:
            os.write(also_to, printed.read_bytes())
        return ended


def named_from(folder: Path, command: Sequence[str]) -> tuple[str, ...]:
    """A command as it is found from elsewhere: a program that is named by its path from a folder, by the whole path."""
    first, *words = command
    return (str(folder / first) if "/" in first and not first.startswith("/") else first, *words)


def last_lines(file: Path) -> tuple[str, ...]:
    """The last lines of what a run said on standard error, less control characters."""
    with file.open("rb") as stream:
        stream.seek(max(file.stat().st_size - _LAST_BYTES, 0))
        text = stream.read().decode("utf-8", "replace")
    lines = ("".join(letter for letter in line if letter.isprintable()).rstrip() for line in text.splitlines())
    return tuple([line for line in lines if line][-_LAST_LINES:])


def _cannot_run(program: str, error: OSError) -> CannotRun:
    mounted = "Is the file system mounted noexec? Then restore elsewhere with --into."
    remedy = mounted if error.errno == EACCES else ""
    return CannotRun(f"{program} cannot be run", why=error.strerror or str(error), remedy=remedy)


def prepare(
    place: Place,
    words: Sequence[str],
    environment: Path | None = None,
    variables: Mapping[str, str] = os.environ,
    cache: Callable[[], Cache | None] = lambda: None,
) -> Run:
    """Make a run ready.

    Args:
        words: the command, not empty.
        environment: a restored environment; the project's own unless given.
        variables: those of the caller.
        cache: the one that is there; asked only to tell the way to an environment.

    Raises:
        LapidarError: there is no such environment, or no such command.
    """
    there = Environment(Path(os.path.abspath(environment or place.environment)))
    mark = there.marker
    if mark is None:
        raise _not_restored(place, there.folder, cache())
    locked = _locked(place, mark.left_out) if environment is None else ""
    prepared = running.prepare(place, there, variables)
    program, words = programs.find(words, there, prepared)
    return Run(
        program=program,
        words=words,
        prepared=prepared,
        snapshot=mark.snapshot,
        locked=locked if locked != mark.snapshot else "",
        chosen=mark.chosen if is_chosen(place, mark) else "",
    )


def is_chosen(place: Place, mark: Marker) -> bool:
    """Whether another snapshot than the lockfile's is meant: one that follows from an older lockfile is not."""
    if not mark.chosen or not mark.live or not place.members.is_file():
        return True
    from lapidar.core.restored import own_packages

    stamps = own_packages.known(place)
    return stamps is None or stamps.snapshot != mark.snapshot or stamps.locked == lockfile.identity_in(place.lockfile)


def _not_restored(place: Place, folder: Path, cache: Cache | None) -> LapidarError:
    """What is lacking, and the one command that brings it."""
    what = f"There is no restored environment at {folder}"
    if not place.lockfile.is_file():
        from lapidar.core.declaring import reading

        there = reading.read(place).needs
        return LapidarError(
            f"{what}, and the project has no {place.lockfile.name}",
            remedy="lapidar pin, then lapidar restore."
            if there
            else "lapidar start finds out what its source needs; lapidar need NAME declares it and restores; "
            "lapidar capture takes an environment that there is.",
        )
    from lapidar.core.cache.contents import lacking

    locked = lockfile.read(place.lockfile)
    parts = list(locked.parts())
    absent = parts if cache is None else lacking(cache, locked)
    into = "" if folder == place.environment else f" --into {shlex.quote(str(folder))}"
    if not absent:
        return LapidarError(what, remedy=f"lapidar restore{into}")
    return LapidarError(
        f"{what}, and the cache lacks {len(absent)} of {len(parts)} parts of its snapshot: "
        f"`lapidar restore --fetch{into}` brings them",
        remedy="Where another cache has them, name it with --cache or LAPIDAR_CACHE: lapidar restore.",
    )


def _locked(place: Place, left_out: Sequence[str]) -> str:
    """The snapshot of the project's lockfile, less what was left out of the environment; "" where there is none."""
    if not place.lockfile.is_file():
        return ""
    return selection.without(lockfile.read(place.lockfile), left_out).snapshot
