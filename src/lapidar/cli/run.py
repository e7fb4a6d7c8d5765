"""``lapidar run``"""

from __future__ import annotations

import argparse
import os
import shutil
from errno import EACCES
from pathlib import Path

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session

DESCRIPTION = """\
Run a command in the restored environment: its bin folder comes first on PATH, the variables and the umask are those of
the snapshot's conditions, no shell is added, and the command takes the place of lapidar, so signals and its exit code
are its own. One line on standard error says which numeric profile acts."""

EXAMPLES = """\
examples:
  lapidar run python analysis.py
  lapidar run -- python -c 'import numpy; print(numpy.__version__)'"""

# Settings of the user that would change what the interpreter of the environment is.
_OF_THE_LOADER = ("LD_LIBRARY_PATH", "LD_PRELOAD", "LD_AUDIT")
_HIDDEN = ("PYTHONHOME", "PYTHONPATH", "PYTHONUSERBASE", "PYTHONSTARTUP")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--env", metavar="DIR", help="the restored environment (default: PROJECT/.lapidar/env)")
    parser.add_argument("words", nargs=argparse.REMAINDER, metavar="COMMAND ...", help="what to run")


def run(session: Session) -> int:
    from lapidar.core.environment import marker
    from lapidar.core.errors import LapidarError
    from lapidar.core.records import lockfile, selection
    from lapidar.core.records.snapshot import short

    words = session.options.words[1:] if session.options.words[:1] == ["--"] else session.options.words
    project = session.project
    environment = session.path("env") or project.environment
    if not words:
        raise LapidarError("There is no command to run", remedy="For example: lapidar run python analysis.py")
    mark = marker.read(environment)
    if mark is None:
        raise LapidarError(f"There is no restored environment at {environment}", remedy="Run `lapidar restore` first.")
    if not session.options.env and project.lockfile.is_file():
        wanted = selection.without(lockfile.read(project.lockfile), mark.left_out).snapshot
        if wanted != mark.snapshot:
            session.view.warn(
                f"the environment is of snapshot {short(mark.snapshot)}, the lockfile of {short(wanted)}; "
                "`lapidar restore` brings it up to date"
            )
    folder = os.path.abspath(environment)
    variables = _variables(session, Path(folder), mark.libraries)
    variables["VIRTUAL_ENV"] = folder
    variables["PATH"] = f"{folder}/bin:{variables.get('PATH', os.defpath)}"
    own = f"{folder}/bin/{words[0]}"
    # Where the file system forbids execution, a search goes on, and would come to the host's program.
    program = own if os.path.isfile(own) else shutil.which(words[0], path=variables["PATH"])
    if program is None:
        raise LapidarError(
            f"There is no command {words[0]!r} in the environment or on PATH",
            remedy=f"Look at its spelling; `ls {environment}/bin` shows what the environment has.",
        )
    try:
        os.execve(program, words, variables)
    except OSError as error:
        remedy = (
            "Is the file system mounted noexec? Then restore elsewhere with --into." if error.errno == EACCES else ""
        )
        raise LapidarError(f"{program} cannot be run", why=error.strerror or str(error), remedy=remedy) from error
    return ExitCode.FAILED


def _variables(session: Session, environment: Path, libraries: str) -> dict[str, str]:
    """The variables of the run: the caller's, held to the conditions of the snapshot."""
    from lapidar.core.layers import conditions

    variables = dict(os.environ)
    names = (*_HIDDEN, *(_OF_THE_LOADER if libraries == "private" else ()))
    hidden = [name for name in names if variables.pop(name, None) is not None]
    if hidden:
        session.view.warn(f"{', '.join(hidden)} is set here and was left out of the run")
    held_to = conditions.kept(environment)
    if held_to is None:
        return variables
    run = conditions.apply(held_to, variables, session.project.root)
    if run.lacking:
        session.view.warn(f"declared as secret, and not set here: {', '.join(run.lacking)}")
    if run.warning:
        session.view.warn(run.warning)
    held = f"; held to the snapshot's: {', '.join(run.changed)}" if run.changed else ""
    session.view.remark(run.profile + held)
    if held_to.umask:
        os.umask(int(held_to.umask, 8))
    return run.variables
