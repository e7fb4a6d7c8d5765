"""``lapidar run``"""

from __future__ import annotations

import argparse
import os
import shutil

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session

DESCRIPTION = """\
Run a command in the restored environment: its bin folder comes first on PATH, no shell is added, and the command
takes the place of lapidar, so signals and its exit code are its own."""

EXAMPLES = """\
examples:
  lapidar run python analysis.py
  lapidar run -- python -c 'import numpy; print(numpy.__version__)'"""

# Settings of the user that would change what the interpreter of the environment is.
_HIDDEN = ("PYTHONHOME", "PYTHONPATH", "PYTHONUSERBASE", "PYTHONSTARTUP")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--env", metavar="DIR", help="the restored environment (default: PROJECT/.lapidar/env)")
    parser.add_argument("words", nargs=argparse.REMAINDER, metavar="COMMAND ...", help="what to run")


def run(session: Session) -> int:
    from lapidar.core import lockfile, selection
    from lapidar.core.environment import marker
    from lapidar.core.errors import LapidarError
    from lapidar.core.snapshot import short

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
    variables = dict(os.environ)
    hidden = [name for name in _HIDDEN if variables.pop(name, None) is not None]
    if hidden:
        session.view.warn(f"{', '.join(hidden)} is set here and was left out of the run")
    folder = os.path.abspath(environment)
    variables["VIRTUAL_ENV"] = folder
    variables["PATH"] = f"{folder}/bin:{variables.get('PATH', os.defpath)}"
    program = shutil.which(words[0], path=variables["PATH"])
    if program is None:
        raise LapidarError(
            f"There is no command {words[0]!r} in the environment or on PATH",
            remedy=f"Look at its spelling; `ls {environment}/bin` shows what the environment has.",
        )
    try:
        os.execve(program, words, variables)
    except OSError as error:
        raise LapidarError(f"{program} cannot be run", why=error.strerror or str(error)) from error
    return ExitCode.FAILED
