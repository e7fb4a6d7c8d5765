"""``lapidar shelf``"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.view import human_bytes, human_path

if TYPE_CHECKING:
    from lapidar.core.flows.shelf import Shelf

DESCRIPTION = """\
Programs that you want everywhere, without putting them into every project: each package in a place of its own, its
programs as links in your folder of programs (~/.local/bin, or LAPIDAR_BIN).
  put       pin a package, place it, and link its programs; asks the indexes that you configured
  renew     the newest versions that its needs allow; without a name, of all
  take      take it away again
  run       run a program of a package without putting it there
  restore   have all that your shelf's file says (~/.config/lapidar/shelf.toml), by its snapshots: on another machine
Without a word it lists what stands there; with --newer also what is newer by now, for which it asks the indexes."""

EXAMPLES = """\
examples:
  lapidar shelf --newer
  lapidar shelf put 'kilntools>=2'
  lapidar shelf put kilntools --with glazemath     another package in the same environment
  lapidar shelf run kilntools fire.csv             without putting it there
  lapidar shelf renew
  lapidar shelf take kilntools"""

_ACTIONS = ("list", "put", "renew", "take", "run", "restore")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("action", nargs="?", choices=_ACTIONS, default="list")
    parser.add_argument("--with", dest="more", action="append", default=[], metavar="NAME", help="put, run: this too")
    parser.add_argument("--newer", action="store_true", help="list: ask the indexes what is newer")
    parser.add_argument("words", nargs=argparse.REMAINDER, metavar="NAME ...", help="the package; run: and its words")


def run(session: Session) -> int:
    from lapidar.core.errors import LapidarError
    from lapidar.core.flows.shelf import Shelf

    options = session.options
    _options_among_words(session)
    if options.more and options.action not in ("put", "run"):
        raise LapidarError(f"--with means nothing to `shelf {options.action}`", remedy="lapidar shelf --help")
    if options.newer and options.action != "list":
        raise LapidarError(f"--newer means nothing to `shelf {options.action}`", remedy="lapidar shelf --newer")
    if options.action in ("put", "take", "run") and not options.words:
        raise LapidarError("Which package is not said", remedy=f"lapidar shelf {options.action} NAME")
    if options.action in ("put", "take") and len(options.words) > 1:
        raise LapidarError(
            f"One package at a time: {' '.join(options.words)}",
            remedy=f"lapidar shelf {options.action} {options.words[0]}",
        )
    actions = {"list": _list, "put": _put, "renew": _renew, "take": _take, "run": _run, "restore": _restore}
    return actions[options.action](session, Shelf())


def _options_among_words(session: Session) -> None:
    """``put NAME --with OTHER``: what follows the name is the command's own only for `run`."""
    options = session.options
    if options.action == "run":
        while len(options.words) > 1 and options.words[0] == "--with":
            options.more.append(options.words[1])
            options.words = options.words[2:]
        return
    words, left = list(options.words), []
    while words:
        word = words.pop(0)
        if word == "--with" and words:
            options.more.append(words.pop(0))
        elif word in ("--json", "-q", "--quiet"):
            session.view.json = session.view.json or word == "--json"
        else:
            left.append(word)
    options.words = left


def _list(session: Session, shelf: Shelf) -> int:
    view, asks = session.view, session.options.newer
    found = list(shelf.with_newer(session.cache(create=True), view.reporter()) if asks else shelf.every())
    if view.json:
        view.object(found)
        return ExitCode.DONE
    if not found:
        view.line("Nothing stands on the shelf.")
        view.note("For example: lapidar shelf put NAME")
        return ExitCode.DONE
    view.table(
        ["package", "version", "programs", "since", "size", *(["newer"] if asks else [])],
        [
            [
                one.name,
                one.version or "not here",
                ", ".join(one.programs) or "-",
                one.since,
                human_bytes(one.bytes),
                *([one.newer or "-"] if asks else []),
            ]
            for one in found
        ],
        right=(4,),
    )
    if any(one.newer for one in found):
        view.note("lapidar shelf renew has the newest that you allow; lapidar shelf put NAME allows any.")
    if any(not one.version for one in found):
        view.note("lapidar shelf restore has those that are not here.")
    return ExitCode.DONE


def _put(session: Session, shelf: Shelf) -> int:
    from lapidar.core.flows.shelf import is_on_path

    view, options = session.view, session.options
    cache = session.cache(create=True)
    done = shelf.put(cache, [options.words[0], *options.more], view.reporter())
    if view.json:
        view.object(done)
        return ExitCode.DONE
    view.line(f"{done.name} {done.version} stands on the shelf: {', '.join(done.programs)}", "good")
    if not is_on_path(shelf.programs):
        view.note(
            f'{human_path(shelf.programs)} is not on your PATH. In the shell\'s own file: PATH="{shelf.programs}:$PATH"'
        )
    return ExitCode.DONE


def _renew(session: Session, shelf: Shelf) -> int:
    view, cache = session.view, session.cache(create=True)
    before = {one.name: one for one in shelf.every()}
    told = []
    for name in session.options.words or shelf.names():
        done = shelf.renew(cache, name, view.reporter())
        told.append(done)
        was = before[name].version
        if not view.json:
            view.line(
                f"{name} {was} -> {done.version}" if was != done.version else f"{name} {was}: nothing newer", "good"
            )
    if view.json:
        view.object(told)
    return ExitCode.DONE


def _take(session: Session, shelf: Shelf) -> int:
    view, name = session.view, session.options.words[0]
    gone = shelf.take(name)
    if view.json:
        view.object({"name": name, "programs": gone})
    else:
        view.line(f"Took {name} from the shelf: {', '.join(gone) or 'it had no programs here'}", "good")
    return ExitCode.DONE


def _run(session: Session, shelf: Shelf) -> int:
    from lapidar.core.flows.aside import Asked, as_project, aside
    from lapidar.core.flows.run import prepare
    from lapidar.core.languages import usual

    options, cache = session.options, session.cache(create=True)
    place = shelf.place(".none")
    asked = Asked(needs=(options.words[0], *options.more), only=True)
    made = aside(place, cache, asked, lambda plan: None, session.view.reporter())
    name = usual().versions.parse_need(options.words[0], "the command line", "").name
    return prepare(as_project(place, asked), [name, *options.words[1:]], made.environment).become()


def _restore(session: Session, shelf: Shelf) -> int:
    view = session.view
    placed = shelf.restore(session.cache(), view.reporter())
    if view.json:
        view.object({"placed": placed})
    else:
        view.line(f"On the shelf: {', '.join(placed) or 'nothing'}", "good")
    return ExitCode.DONE
