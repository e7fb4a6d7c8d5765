"""``lapidar run``"""

from __future__ import annotations

import argparse
import functools
import hashlib
import os
import shlex
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from lapidar.cli.main import Session
from lapidar.cli.view import View, human_count, human_path

if TYPE_CHECKING:
    from lapidar.core.cache.store import Cache
    from lapidar.core.flows.run import Run
    from lapidar.core.languages.protocol import Language
    from lapidar.core.place import Place

DESCRIPTION = """\
Run a command in the restored environment: its bin folder comes first on PATH, the variables and the umask are those of
the snapshot's conditions, no shell is added, and the command takes the place of lapidar, so signals and its exit code
are its own. A line on standard error says what acts on numbers, where that is not what acted when it was captured.

A script that states its needs inline (a block # /// script, or # /// lapidar-r) runs in an environment of its own: it
is pinned at first, which asks the index that you configured; its snapshot lies beside it (FILE.lapidar.lock), and from
then on no host is asked. Scripts with the same snapshot share the environment."""

EXAMPLES = """\
examples:
  lapidar run python analysis.py
  lapidar run -- python -c 'import numpy; print(numpy.__version__)'
  lapidar run analysis.py --fast             a script that states its needs; - for one on standard input
  lapidar run --from /shared/kilns.parcel.tar -- python analysis.py    on many nodes: each reads one file, once"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--env", metavar="DIR", help="the restored environment (default: PROJECT/.lapidar/env)")
    parser.add_argument(
        "--from",
        dest="source",
        metavar="FILE|ADDRESS",
        help="in the environment of a parcel: it is placed in a folder of this node, once for all processes of a user",
    )
    parser.add_argument(
        "--near",
        action="store_true",
        help="in an environment of the project's lockfile in a folder of this node, placed likewise from the cache",
    )
    parser.add_argument(
        "--unpinned",
        action="store_true",
        help="of a script that states its needs: keep its snapshot in the cache alone, not beside it",
    )
    parser.add_argument("words", nargs=argparse.REMAINDER, metavar="COMMAND ...", help="what to run")


def run(session: Session) -> int:
    from lapidar.core.errors import LapidarError
    from lapidar.core.flows.run import prepare

    words = session.options.words[1:] if session.options.words[:1] == ["--"] else session.options.words
    if not words:
        raise LapidarError("There is no command to run", remedy="For example: lapidar run python analysis.py")
    if (ready := _of_script(session, words)) is not None:
        _tell(ready, session.view)
        return ready.become()
    if session.options.unpinned:
        raise LapidarError("--unpinned is for a script that states its needs", remedy="lapidar run --unpinned FILE.py")
    there = functools.partial(session.cache_if_any, create=False)
    elsewhere = _near(session) or session.path("env")
    if elsewhere is None:
        members_up(session)
    ready = prepare(session.place, words, elsewhere, cache=there)
    _tell(ready, session.view)
    return ready.become()


def _of_script(session: Session, words: Sequence[str]) -> Run | None:
    """A script that states its needs, in an environment of its own; None for any other command."""
    from lapidar.core.declaring import inline

    options = session.options
    if options.env or options.source or options.near:
        return None
    piped = list(words[:1]) == ["-"]
    if not piped and not (os.path.isfile(words[0]) and inline.begins(data := Path(words[0]).read_bytes())):
        if not session.place.lockfile.is_file():
            _require_program(words)
        return None
    cache = session.cache(create=True)
    if piped:
        data = sys.stdin.buffer.read()
        file = _kept(data, cache)
    else:
        file = Path(os.path.abspath(words[0]))
    language = inline.language_of(file.name, data)
    assert language is not None
    options.script = str(file)  # it stands in the place of a project
    beside = not (piped or options.unpinned)
    place, environment = _placed(session, file, cache, beside=beside)
    from lapidar.core.flows.run import prepare

    return prepare(place, [language.interpreters[0], str(file), *words[1:]], environment)


def _require_program(words: Sequence[str]) -> None:
    """Raises: LapidarError: a source file that nobody can execute is named where there is no project, and states no
    needs."""
    from lapidar.core.declaring import inline
    from lapidar.core.errors import LapidarError

    word = words[0]
    language = inline.language_of(word, b"") if os.path.isfile(word) and not os.access(word, os.X_OK) else None
    if language is not None:
        name = shlex.quote(word)
        raise LapidarError(
            f"{word} is no program, and states no needs",
            remedy=f"Let it state them: lapidar need --script {name} NAME; or run it in a project: lapidar run "
            f"{language.interpreters[0]} {shlex.join(words)}",
        )


def _kept(data: bytes, cache: Cache) -> Path:
    """A script that came on standard input, as a file."""
    from lapidar.core import atomic
    from lapidar.core.declaring import inline
    from lapidar.core.errors import LapidarError
    from lapidar.core.flows.near import in_cache

    kind = inline.begins(data)
    if not kind:
        raise LapidarError("What came on standard input states no needs", remedy="It needs a block: # /// script.")
    name = f"{hashlib.sha256(data).hexdigest()[:24]}{'.py' if kind == 'script' else '.R'}"
    file = in_cache(cache.root).folder / "piped" / name
    if not file.is_file():
        atomic.make_folder(file.parent)
        atomic.write_file(file, data, flush=False)
    return file


def placed_script(session: Session, file: Path, cache: Cache) -> Language:
    """Have the environment of a script; the language that it is of.

    Raises:
        LapidarError: it states nothing.
    """
    from lapidar.core.declaring import script

    language = script.read(file).language
    _placed(session, file, cache, beside=True)
    return language


def _placed(session: Session, file: Path, cache: Cache, *, beside: bool) -> tuple[Place, Path]:
    """The place of a script, and its environment."""
    from lapidar.core.flows.inline import held

    if beside and (found := held(file, cache.root)):
        return found
    from lapidar.core.flows.script import ready

    view = session.view
    view.remark(f"{file.name} states its needs: it runs in an environment of its own.")
    done = ready(file, cache, view.reporter(), beside=beside)
    if done.pinned:
        where = human_path(done.place.lockfile) if beside else "in the cache alone"
        view.remark(f"Pinned {human_count(done.pinned.plan.packages, 'package')} for it: {where}")
    return done.place, done.environment


def members_up(session: Session, *, wholly: bool = False) -> None:
    """Bring the environment up to the project's own packages, where it has any that changed; see `flows.members`."""
    if not session.place.members.is_file():
        return
    from lapidar.cli.view import human_seconds
    from lapidar.core.flows.members import brought_up

    for one in brought_up(session.place, session.cache, session.view.reporter(), wholly=wholly):
        session.view.remark(f"{one.name} was built again, for {one.why} changed ({human_seconds(one.seconds)})")


def _near(session: Session) -> Path | None:
    """An environment in a folder of this node, where one is meant."""
    from lapidar.core.errors import LapidarError

    options = session.options
    if not options.source and not options.near:
        return None
    if options.env or (options.source and options.near):
        raise LapidarError("Two environments are named", remedy="Name one: with --env, with --from, or with --near.")
    from lapidar.core.flows.near import Near, near_folder, placed

    return placed(Near(near_folder(None)), session.place, options.source, session.cache, session.view.reporter())


def _tell(ready: Run, view: View) -> None:
    """What the run is held to, and what may surprise."""
    from lapidar.core.environment.marker import AS_THEY_ARE
    from lapidar.core.records.words import short

    if ready.chosen == AS_THEY_ARE:
        pass  # it was said when they were built, and `check` says it
    elif ready.locked and ready.chosen:
        view.remark(f"the environment is of snapshot {short(ready.snapshot)}, as restored with {ready.chosen}")
    elif ready.locked:
        view.warn(
            f"the environment is of snapshot {short(ready.snapshot)}, the lockfile of {short(ready.locked)}; "
            "`lapidar restore` brings it up to date"
        )
    prepared = ready.prepared
    if prepared.hidden:
        view.warn(f"{', '.join(prepared.hidden)} is set here and was left out of the run")
    held_to = prepared.held_to
    if held_to is None:
        return
    if held_to.lacking:
        view.warn(f"declared as secret, and not set here: {', '.join(held_to.lacking)}")
    if held_to.warning:
        view.warn(held_to.warning)
    held = f"held to the snapshot's: {', '.join(held_to.changed)}" if held_to.changed else ""
    if told := "; ".join(filter(None, [held_to.profile, held])):
        view.remark(told)
