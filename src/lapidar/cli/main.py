"""The program: finds the command, gives it a session, turns what comes of it into an exit code."""

from __future__ import annotations

import argparse
import gc
import importlib
import io
import os
import re
import shlex
import signal
import sys
import textwrap
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar, NoReturn

from lapidar._version import VERSION
from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.view import View

if TYPE_CHECKING:
    from lapidar.core.cache.store import Cache
    from lapidar.core.errors import LapidarError
    from lapidar.core.place import Place
    from lapidar.core.records.snapshot import Snapshot

__all__ = ["Session", "main", "program"]

COMMANDS = {
    "start": "make a folder a project: what it needs, and from where",
    "survey": "find out what the project's own source needs",
    "need": "declare what the analysis needs, and have it",
    "drop": "need something no longer",
    "pin": "resolve the declared needs to exact packages, and keep them in the cache",
    "versions": "show which versions of a package there are",
    "why": "show why a package is there, or what keeps it out",
    "outlook": "show what is pinned, what could be, and who holds it back",
    "runtimes": "show the language runtimes on this machine and in the cache",
    "capture": "record an environment in a lockfile and keep its bytes in the cache",
    "restore": "build the environment of a lockfile from the cache, with no network",
    "run": "run a command in the restored environment",
    "aside": "try something without a trace: the project's environment with other needs",
    "record": "run an analysis, and record what it read and wrote",
    "rerun": "run recorded analyses again in their own environment, and compare the results",
    "steps": "show every analysis in order, and which are out of date, and why",
    "refresh": "run the analyses that are out of date, and nothing else",
    "lineage": "follow a file back to the raw data, or on to what rests on it",
    "prove": "run a recorded analysis where nothing of this machine is in sight, and compare the results",
    "compare": "compare results: files, folders, records",
    "check": "compare lockfile, restored environment and cache",
    "show": "show what a lockfile holds",
    "places": "list the places that are known here: project, members, scripts, shelf, asides",
    "history": "show every snapshot of the project: when, why, and what it changed",
    "changes": "show what is different between two snapshots",
    "return": "have an earlier snapshot again: lockfile and environment",
    "culprit": "find which change altered a result",
    "export": "write what a lockfile says in a standard form: pylock.toml, a list with digests, a table",
    "call": "call a function in the environment of another snapshot",
    "shelf": "programs that you want everywhere, each in a place of its own",
    "build": "build what is handed on of a package of your own: the same bytes twice",
    "publish": "bring archives of a package of your own to a package index",
    "parcel": "one file with all that restoring needs; and stores of these, for a team",
    "cache": "look after the cache: summary, audit, prune",
    "work": "run a step that `refresh --on` handed to this machine",
    "demo": "try everything on a sample project",
    "completion": "have the shell complete commands and options",
    "help": "show the help of a command",
}

_DESCRIPTION = """\
Captures the environment an analysis runs in (runtime, packages) as a snapshot, keeps the bytes in a local
cache, and restores it byte for byte, offline, years later."""

_EPILOG = """\
examples:
  lapidar survey                      what does this project's source need?
  lapidar capture                     capture this project's environment into lapidar.lock
  lapidar restore                     build it again in .lapidar/env
  lapidar run python analysis.py      run in it
  lapidar check                       has anything drifted?
  lapidar demo                        see all of it on a sample project

exit codes:
  0  done, or "yes"                   2  the command line was wrong
  1  "no": something has drifted      3  it could not be done (the message says why)
  130  interrupted"""


# They look at files of a project.
_OF_FILES = frozenset({"record", "rerun", "compare", "prove", "steps", "refresh", "lineage"})


class Session:
    """What every command is given: the options as parsed, and where to show things."""

    def __init__(self, options: argparse.Namespace, view: View) -> None:
        self.options = options
        self.view = view

    @property
    def place(self) -> Place:
        from lapidar.core.place import Place

        if self.options.script:
            from msgspec.structs import replace

            from lapidar.core.flows.script import place_of

            place = place_of(self.script, self.cache(create=True))
            # What it reads and writes is told as seen from where it lies.
            return replace(place, root=self.script.parent) if self.options.command in _OF_FILES else place
        named = self.options.project
        return Place.find(Path(named) if named else None)

    @property
    def script(self) -> Path:
        """The script that is meant.

        Raises:
            LapidarError: there is none.
        """
        from lapidar.core.errors import LapidarError

        file = Path(os.path.abspath(self.path("script") or ""))
        if not file.is_file():
            raise LapidarError(f"There is no script {self.options.script}", remedy="Name its file with --script.")
        if self.options.project:
            raise LapidarError("A project and a script are named", remedy="Name one: with --project, or with --script.")
        return file

    def cache(self, *, create: bool = False) -> Cache:
        """The cache that is meant."""
        from lapidar.core.cache.store import Cache, default_folder
        from lapidar.core.foreign import expanded

        named, below = self.options.cache, self.options.below or os.environ.get("LAPIDAR_BELOW", "")
        root = expanded(named) if named else default_folder()
        others = [Cache(expanded(one)) for one in below.split(os.pathsep) if one]
        if not others:
            return Cache(root, create=create)
        from lapidar.core.cache.layered import LayeredCache

        return LayeredCache(root, create=True, below=others)

    def cache_if_any(self, *, create: bool = True) -> Cache | None:
        """The cache that is meant, for what only goes better with one; None where none can be had."""
        from lapidar.core.errors import CacheError

        try:
            return self.cache(create=create)
        except CacheError:
            return None

    def snapshot(self) -> Snapshot:
        """The snapshot that is meant: see `add_snapshot_options`."""
        from lapidar.core.flows.choose import read_snapshot

        named = self.options.snapshot
        return read_snapshot(self.place, self.cache() if named else None, self.path("lock"), named)

    def environment(self) -> Path | None:
        """The environment that is named, by its place among the words or by --env."""
        from lapidar.core.errors import LapidarError

        placed, named = self.path("environment"), self.path("env")
        if placed and named:
            raise LapidarError("Two environments are named", remedy="Name one, with --env or without.")
        return placed or named

    def told(self, is_so: bool) -> ExitCode:
        """The exit code of a command that only tells: see `add_exit_code_option`."""
        return ExitCode.NO if is_so and self.options.exit_code else ExitCode.DONE

    def path(self, name: str) -> Path | None:
        """An option's value as a path."""
        value = getattr(self.options, name)
        from lapidar.core.foreign import expanded

        return expanded(value) if value else None


def add_snapshot_options(parser: argparse.ArgumentParser) -> None:
    """The options by which another snapshot is meant than that of the project's lockfile."""
    which = parser.add_mutually_exclusive_group()
    which.add_argument("--lock", metavar="FILE", help="another lockfile than the project's")
    which.add_argument("--snapshot", metavar="ID", help="a snapshot of the history, by the beginning of its identity")


def add_language_option(parser: argparse.ArgumentParser, *, several: bool = True) -> None:
    """The option by which languages are meant, where a machine or a project has several.

    Args:
        several: whether it may be given again.
    """
    if not several:
        parser.add_argument("--language", metavar="NAME", help="whose package is meant: python or r")
        return
    parser.add_argument(
        "--language",
        metavar="NAME",
        action="append",
        default=[],
        help="only this one: python or r (may be given again)",
    )


def add_exit_code_option(parser: argparse.ArgumentParser, told: str) -> None:
    """The option of commands that only tell something, by which their exit code tells it too.

    Args:
        told: what exit code 1 stands for.
    """
    parser.add_argument("--exit-code", action="store_true", help=f"exit code 1 where {told}; without, telling is done")


class _Parser(argparse.ArgumentParser):
    """Tells what is near to a misspelled word, answers machines in their form, and takes no option by half its name:
    one that comes later would change what a script means."""

    def __init__(self, **settings: Any) -> None:
        super().__init__(**settings, allow_abbrev=False)

    json: ClassVar[bool] = False
    _is_at_it = False

    def parse_known_args(self, args: Any = None, namespace: Any = None) -> Any:
        """Words and options of a command in any order: by itself the library takes a word that may be left out for left
        out where an option comes before it (until Python 3.13)."""
        takes_the_rest = any(action.nargs in (argparse.PARSER, argparse.REMAINDER) for action in self._actions)
        if self._is_at_it or takes_the_rest:
            return super().parse_known_args(args, namespace)
        self._is_at_it = True
        try:
            return self.parse_known_intermixed_args(args, namespace)
        finally:
            self._is_at_it = False

    def error(self, message: str) -> NoReturn:
        from lapidar.core import spelling
        from lapidar.core.errors import LapidarError

        what, near = _misspelled(message, _options(self))
        remedy = spelling.hint(near, f"{self.prog} --help shows what there is.")
        if self.json:
            View(json=True).error(LapidarError(what, remedy=remedy))
            sys.exit(ExitCode.USAGE)
        self.exit(ExitCode.USAGE, f"{self.prog}: {what}\n  next: {remedy}\n")


def _options(parser: argparse.ArgumentParser) -> list[str]:
    """All options of a parser and of the commands below it."""
    found: list[str] = []
    for action in parser._actions:
        found += action.option_strings
        if isinstance(action, argparse._SubParsersAction):
            found += [name for below in action.choices.values() for name in _options(below)]
    return found


_CHOICE = re.compile(
    r"argument (?P<what>[^:]*): invalid choice: '(?P<word>.*?)' \(choose from (?P<known>.*)\)", re.DOTALL
)
_UNKNOWN = re.compile(r"unrecognized arguments: (?P<words>.*)", re.DOTALL)


def _misspelled(message: str, options: Sequence[str]) -> tuple[str, list[str]]:
    """What argparse says, in fewer words, and what is near to the word that it does not know."""
    from lapidar.core import spelling

    if found := _CHOICE.match(message):
        known = [word.strip(" '") for word in found["known"].split(",")]
        what = found["what"].rpartition("/")[2].lower()
        return f"there is no {what} {found['word']!r}", spelling.near(found["word"], known)
    if found := _UNKNOWN.match(message):
        word = next((word for word in found["words"].split() if word.startswith("-")), "").partition("=")[0]
        if word:
            return f"there is no option {word}", spelling.near(word, options)
    return message, []


class _Help(argparse.RawDescriptionHelpFormatter):
    """Paragraphs are filled to the width of the terminal (COLUMNS); what is indented, and examples, stay as written."""

    def _fill_text(self, text: str, width: int, indent: str) -> str:
        paragraphs = text.split("\n\n")
        return "\n\n".join(
            one if one.startswith(("examples:", "exit codes:")) or "\n  " in one else textwrap.fill(one, width)
            for one in paragraphs
        )


def _add_global_options(parser: argparse.ArgumentParser, *, top: bool) -> None:
    """The options that stand before or after the command's name alike."""
    group = parser.add_argument_group("options of every command")

    def add(*names: str, **settings: Any) -> None:
        # After the command's name an option that is not given must not undo the one given before it.
        if not top:
            settings["default"] = argparse.SUPPRESS
        group.add_argument(*names, **settings)

    add("--project", metavar="DIR", help="the project's folder (default: the one this folder is in)")
    add("--script", metavar="FILE", help="a script that states its needs inline: it stands in the place of a project")
    add("--cache", metavar="DIR", dest="cache", help="the package cache (default: LAPIDAR_CACHE, or the user's own)")
    add(
        "--below",
        metavar="DIR",
        help="a cache that is only read, of a lab or a cluster: what yours lacks is taken out of it (LAPIDAR_BELOW)",
    )
    add("--json", action="store_true", help="one JSON object on standard output, for machines")
    add("-q", "--quiet", action="store_true", help="results and errors only")
    add("-v", "--verbose", action="store_true", help="say more")
    add("--debug", action="store_true", help="show where in the program an error arose")


def build_parser(chosen: str | None, *, alone: bool = False) -> argparse.ArgumentParser:
    """The parser; only the chosen command's own module is loaded.

    Args:
        alone: nobody is going to be shown the other commands, so that these are left out.
    """
    parser = _Parser(prog="lapidar", description=_DESCRIPTION, epilog=_EPILOG, formatter_class=_Help)
    parser.add_argument("--version", action="version", version=f"lapidar {VERSION}")
    _add_global_options(parser, top=True)
    commands = parser.add_subparsers(title="commands", dest="command", metavar="COMMAND")
    for name, help_line in COMMANDS.items():
        if alone and name != chosen:
            continue
        settings: dict[str, Any] = {"help": help_line, "formatter_class": _Help}
        if name == chosen:
            module = importlib.import_module(f"lapidar.cli.{name}")
            own = commands.add_parser(name, description=module.DESCRIPTION, epilog=module.EXAMPLES, **settings)
            module.add_arguments(own)
            _add_global_options(own, top=False)
        else:
            commands.add_parser(name, **settings)
    return parser


_TAKE_COMMANDS = frozenset({"aside", "capture", "check", "culprit", "demo", "prove", "record"})  # after two dashes


_TAKE_VALUES = frozenset({"--project", "--script", "--cache", "--below"})


def _chosen(words: Sequence[str]) -> tuple[str | None, bool]:
    """The command's name, the first word that is one and not the value of an option before it; and whether only options
    stand before it, and nobody asks for help there."""
    previous, is_first = "", True
    for word in words:
        is_value = previous in _TAKE_VALUES
        if word in COMMANDS and not is_value:
            return word, is_first
        is_first = is_first and (is_value or (word.startswith("-") and word not in ("-h", "--help")))
        previous = word
    return None, False


def main(arguments: Sequence[str] | None = None) -> int:
    """Run the program.

    Args:
        arguments: the words after the program's name; those of the process if not given.

    Returns:
        The exit code.
    """
    # Tens of thousands of small records are made and none is part of a cycle: looking for cycles would cost more
    # than all of the rest.
    gc.set_threshold(200_000)
    _outlive_the_reader()
    words = list(sys.argv[1:] if arguments is None else arguments)
    completes = "_ARGCOMPLETE" in os.environ
    chosen, is_first = _chosen(os.environ.get("COMP_LINE", "").split()[1:] if completes else words)
    # The words of another command are not ours to parse.
    cut = words.index("--") if chosen in _TAKE_COMMANDS and "--" in words else len(words)
    _Parser.json = "--json" in words[:cut]
    parser = build_parser(chosen, alone=is_first and not completes)
    if completes:
        importlib.import_module("argcomplete").autocomplete(parser, default_completer=None)
    options = parser.parse_args(words[:cut])
    if options.command is None:
        parser.print_help()
        return ExitCode.DONE
    options.after = words[cut + 1 :]
    shown = {"json": options.json, "quiet": options.quiet, "verbose": options.verbose}
    view = View(**shown, whose=_whose(options), commands=COMMANDS.keys() - _OF_NO_PLACE)
    command = importlib.import_module(f"lapidar.cli.{options.command}")
    try:
        _take_over_interruptions()
        code = command.run(Session(options, view))
        sys.stdout.flush()
        return int(code)
    except KeyboardInterrupt:
        return _interrupted()
    except Exception as error:
        if _came_of_interruption(error):
            return _interrupted()
        return _explain(error, view, options)


class _Patient(io.FileIO):
    """Standard output whose reader may go away (lapidar check | head): what was to be done is done all the same, and
    the exit code is the answer, as if all had been read."""

    def write(self, data: Any) -> int:
        try:
            return super().write(data) or 0
        except BrokenPipeError:
            os.dup2(os.open(os.devnull, os.O_WRONLY), self.fileno())
            return len(data)


def _outlive_the_reader() -> None:
    """Have standard output be such a one, where it is the process's own; who reads it hears of each line at once."""
    stream = sys.stdout
    if stream is sys.__stdout__ and isinstance(stream, io.TextIOWrapper):
        raw = io.BufferedWriter(_Patient(stream.fileno(), "wb", closefd=False))
        sys.stdout = io.TextIOWrapper(raw, stream.encoding, stream.errors, line_buffering=True)


def _take_over_interruptions() -> None:
    """From here on Ctrl-C is an exception, which lets a command leave everything whole.

    Loaded before that: the library of our records. Where Ctrl-C comes while it is loaded it passes over that and
    crashes later (measured: 55 crashes of 400 interruptions in that moment).
    """
    importlib.import_module("msgspec")
    early = signal.getsignal(signal.SIGINT)
    if getattr(early, "__name__", "") == "ended_early":  # as the entry point left it: see lapidar._early
        signal.signal(signal.SIGINT, signal.default_int_handler)


def _interrupted() -> int:
    print("lapidar: interrupted; nothing half-written was left where a reader may find it", file=sys.stderr)
    return ExitCode.INTERRUPTED


def _came_of_interruption(error: BaseException | None) -> bool:
    """Whether an error only arose because Ctrl-C came in the middle of cleaning up (the standard library's removal of
    folders may close a descriptor twice then)."""
    while error is not None:
        if isinstance(error, KeyboardInterrupt):
            return True
        error = error.__cause__ or error.__context__
    return False


# What these ask about is a project's.
_OF_PROJECTS = frozenset(
    (
        "pin show restore check run rerun export changes return culprit outlook why prove drop history steps refresh "
        "lineage"
    ).split()
)


_OF_NO_PLACE = frozenset("cache completion demo help places shelf start work".split())


def _whose(options: argparse.Namespace) -> str:
    """How the place was named that a command is about."""
    for name in ("script", "project"):
        if named := getattr(options, name, None):
            return f"--{name} {shlex.quote(str(named))}"
    return ""


def _in_no_project(error: LapidarError, options: argparse.Namespace) -> LapidarError:
    """An error as it is told where there is no project: most likely this is the wrong folder."""
    from lapidar.core.declaring import files
    from lapidar.core.errors import LapidarError

    try:
        place = Session(options, View()).place
        if any(path.exists() for path in (place.lockfile, place.records)) or files.may_declare(place):
            return error
    except LapidarError:
        return error
    return LapidarError(
        error.what,
        why=f"{place.root} is no project: neither it nor a folder above has a lapidar.toml or a lapidar.lock",
        remedy="Go to the project's folder, or name it with --project; or begin one here: lapidar start (of what its "
        "source needs), or lapidar capture ENVIRONMENT.",
    )


def _explain(error: Exception, view: View, options: argparse.Namespace) -> int:
    from lapidar.core.errors import LapidarError, NoSpace, from_os_error

    if options.debug:
        import traceback

        traceback.print_exc()
    if isinstance(error, OSError):
        error = from_os_error(error, "go on")
    if not isinstance(error, LapidarError):
        error = LapidarError(
            f"Something unexpected happened: {type(error).__name__}: {error}",
            remedy="This is a fault of lapidar. Run again with --debug and report what it shows.",
        )
    if getattr(options, "fetch", True) is False:  # the same command brings what it lacks
        again = shlex.join(["lapidar", *sys.argv[1:], "--fetch"])
        error.remedy = error.remedy.replace("lapidar restore --fetch", again)
    asks_project = options.command in _OF_PROJECTS and not getattr(options, "source", None)
    view.error(_in_no_project(error, options) if asks_project and not isinstance(error, NoSpace) else error)
    return ExitCode.FAILED


def program() -> NoReturn:
    """The entry point: runs `main` and ends at once. Giving back the memory of a hundred thousand small records one
    by one takes longer than some commands."""
    code = main()
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # what there was to do is done
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(code)
