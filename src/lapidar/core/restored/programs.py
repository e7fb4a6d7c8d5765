"""Which program a command means in a restored environment: its own, then the host's; but never one that works in
another environment without saying so."""

from __future__ import annotations

import os
import shlex
import shutil
from collections.abc import Sequence
from pathlib import Path

from lapidar.core import languages
from lapidar.core.environment.folder import Environment
from lapidar.core.errors import CannotRun
from lapidar.core.restored.running import Prepared

__all__ = ["find", "where_active"]

_LONGEST_LINE = 512


def find(words: Sequence[str], environment: Environment, prepared: Prepared) -> tuple[str, tuple[str, ...]]:
    """The file to execute, and the words to give it.

    Args:
        words: the command, not empty.

    Raises:
        CannotRun: there is none; it is a file that is no program; or it is another environment's.
    """
    name = words[0]
    own = environment.programs / name
    # Where the file system forbids execution, a search goes on, and would come to the host's program.
    if "/" not in name and own.is_file():
        return str(own), tuple(words)
    found = shutil.which(name, path=prepared.variables["PATH"])
    script = Path(name)
    if script.is_file() and ("/" in name or found is None):
        return _script(script, words, found, environment)
    if found is None:
        raise _nowhere(name, environment)
    if "/" not in name:
        _refuse_another_environment(name, found, environment)
    return found, tuple(words)


def _nowhere(name: str, environment: Environment) -> CannotRun:
    if "/" in name:
        what = f"{name} is a folder, and no program" if os.path.isdir(name) else f"There is no file {name}"
        return CannotRun(what, remedy=f"Look at its spelling; you are in {Path.cwd()}.")
    return CannotRun(
        f"There is no command {name!r} in the environment or on PATH",
        remedy=f"Look at its spelling; `ls {environment.programs}` shows what the environment has.",
    )


def where_active(name: str, interpreter: Path) -> tuple[str, dict[str, str]]:
    """A program as a shell finds it where the environment of an interpreter is active: its absolute path, and the
    variables there.

    Raises:
        CannotRun: there is none.
    """
    variables = {**os.environ, "PATH": f"{interpreter.parent}:{os.environ.get('PATH', os.defpath)}"}
    found = shutil.which(name, path=variables["PATH"])
    if found is None:
        raise CannotRun(f"There is no command {name!r} in the environment or on PATH", remedy="Look at its spelling.")
    return os.path.abspath(found), variables


def _script(
    script: Path, words: Sequence[str], found: str | None, environment: Environment
) -> tuple[str, tuple[str, ...]]:
    """A file that is named: its interpreter is the environment's, where that has one of this name. A program that
    another environment has, and this one has not, is run as it is: it was asked for by its path."""
    line = _interpreter(script)
    own = environment.programs / os.path.basename(line[0]) if line else None
    is_of_another = bool(line) and _lie_together(script, line[0]) and not (environment.programs / script.name).is_file()
    if own is not None and own.is_file() and not is_of_another:
        return str(own), (own.name, *line[1:], *words)
    if found is not None and (line or not _is_source(script)):
        return found, tuple(words)
    suffixed = [language for language in languages.every() if script.suffix in language.source_suffixes[:1]]
    starts = next(
        (name for one in suffixed for name in one.interpreters if (environment.programs / name).is_file()), ""
    )
    rest = shlex.join(words)
    raise CannotRun(
        f"{script} is a file, and no program",
        why="it says no interpreter in its first line" if not line else "it cannot be executed",
        remedy=f"lapidar run {starts} {rest}" if starts else "Say the program that it is for first.",
    )


def _lie_together(script: Path, interpreter: str) -> bool:
    """Whether a script lies beside the interpreter of its first line, as the programs of an environment do."""
    beside = os.path.realpath(os.path.dirname(interpreter))
    return os.path.isabs(interpreter) and os.path.realpath(script.parent) == beside


def _is_source(script: Path) -> bool:
    return any(script.suffix in language.source_suffixes for language in languages.every())


def _interpreter(script: Path) -> list[str]:
    """What the first line of a script says that it is to be started with (execve(2)); nothing where it says nothing."""
    try:
        with script.open("rb") as stream:
            line = stream.readline(_LONGEST_LINE)
    except OSError:
        return []
    if not line.startswith(b"#!"):
        return []
    words = os.fsdecode(line[2:].strip()).split()
    if words and os.path.basename(words[0]) == "env":
        words = [word for word in words[1:] if not word.startswith("-") and "=" not in word]
    return words


def _refuse_another_environment(name: str, program: str, environment: Environment) -> None:
    """Raises: CannotRun: a program on PATH belongs to another environment of a language that this one has: it would
    see, and might change, the packages of that one."""
    line = _interpreter(Path(program))
    runs_with = line[0] if line and os.path.isabs(line[0]) else ("" if line else program)
    installs = any(name in language.installers for language in languages.every())
    if not (
        installs or _is_interpreter(name, environment) or _is_interpreter(os.path.basename(runs_with), environment)
    ):
        return
    other = f"is {program}" if runs_with in (program, "") else f"is {program}, which runs with {runs_with}"
    raise CannotRun(
        f"{name} is not in the environment",
        why=f"the one on PATH {other}: it would see, and may change, the packages of another environment",
        remedy="`lapidar need NAME` brings a package into this one. To run that program all the same, give its path.",
    )


def _is_interpreter(name: str, environment: Environment) -> bool:
    there = [language for language in languages.every() if environment.executable(language.name)]
    return any(
        name == start or (name.startswith(start) and name[len(start) :].replace(".", "").isdigit())
        for language in there
        for start in language.interpreters
    )
