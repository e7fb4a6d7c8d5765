"""What an outside program needs beside the files of packages: modules that it loads by their names, from its
interpreter's search path, and files that it names.

The search path is the interpreter's own word. The names are those that scripts give at the start of a line, as each
language has it: perlfunc(1) `use` and `require`, Ruby's `require`, Tcl's `package require`.
"""

from __future__ import annotations

import functools
import os
import re
import subprocess
from collections.abc import Callable, Iterable, Iterator

from msgspec import Struct

from lapidar.core import foreign
from lapidar.core.errors import LapidarError

__all__ = ["Language", "modules_of", "named_by_shell", "of_interpreter"]

_SECONDS = 20.0
_MOST_MODULES = 5_000
_MOST_OF_A_SCRIPT = 1 << 20  # bytes
_NAMED_FILE = re.compile(rb"/(?:usr/(?:share|lib)|opt)/[\w./+-]+\w")


class Language(Struct, frozen=True):
    """A language of scripts.

    Attributes:
        title: its name.
        ask: words for the interpreter, and what it reads, so that it prints its search path, a folder a line.
        named: pattern of the names of modules in a script: the name, and as another group what says that it must be.
        find: of a search path and a name, the files that the module may be.
    """

    title: str
    ask: tuple[tuple[str, ...], str]
    named: re.Pattern[bytes]
    find: Callable[[str, str], Iterable[str]]


def _perl(folder: str, name: str) -> Iterator[str]:
    path = name.replace("::", "/")
    yield f"{folder}/{path}.pm"
    yield f"{folder}/auto/{path}/{path.rpartition('/')[2]}.so"


def _ruby(folder: str, name: str) -> Iterator[str]:
    yield from (f"{folder}/{name}{suffix}" for suffix in ("", ".rb", ".so"))


def _tcl(folder: str, name: str) -> Iterator[str]:
    """The files of the folder that says how to load it."""
    said = re.compile(rb"package ifneeded " + re.escape(os.fsencode(name)) + rb"\s")
    try:
        below = [f"{folder}/{one}" for one in sorted(os.listdir(folder))]
    except OSError:
        return
    for place in filter(os.path.isdir, [folder, *below]):
        if said.search(_read(f"{place}/pkgIndex.tcl")):
            yield from (f"{place}/{one}" for one in sorted(os.listdir(place)))


_LANGUAGES = {
    "perl": Language(
        "Perl",
        (("-e", 'print join("\\n", @INC)'), ""),
        re.compile(rb"^(use|[ \t]*require|[ \t]+use)\s+([A-Z]\w*(?:::\w+)*)", re.MULTILINE),
        _perl,
    ),
    "ruby": Language(
        "Ruby",
        (("-e", "puts $LOAD_PATH"), ""),
        re.compile(rb"^(|[ \t]+)require\s+['\"]([\w/.-]+)['\"]", re.MULTILINE),
        _ruby,
    ),
    "tclsh": Language(
        "Tcl",
        ((), 'puts [join $auto_path "\\n"]; exit'),
        re.compile(rb"^(|[ \t]+)package require\s+(?:-exact\s+)?([\w:.-]+)", re.MULTILINE),
        _tcl,
    ),
}
_LANGUAGES["wish"] = _LANGUAGES["tclsh"]


def of_interpreter(path: str) -> Language | None:
    """The language of an interpreter, by its name: ``perl5.36-x86_64-linux-gnu`` is Perl's."""
    name = re.match(r"[a-z]+", os.path.basename(path))
    return _LANGUAGES.get(name[0]) if name else None


def modules_of(interpreter: str, language: Language, scripts: Iterable[str]) -> tuple[list[str], list[str]]:
    """The files of the modules that scripts load by their names, and those that these load in turn.

    Returns:
        The files; and the names that a script begins with and that are nowhere on the search path.
    """
    folders = _search_path(interpreter, language)
    found: dict[str, None] = {}
    missing: dict[str, None] = {}
    done: set[str] = set()
    waiting = [(path, True) for path in scripts]
    while waiting and len(found) < _MOST_MODULES:
        path, is_script = waiting.pop()
        for must, name in {(must, os.fsdecode(name)) for must, name in language.named.findall(_read(path))}:
            if name in done:
                continue
            done.add(name)
            files = next((files for folder in folders if (files := _there(language.find(folder, name)))), [])
            found |= dict.fromkeys(files)
            waiting += [(file, False) for file in files]
            if not files and is_script and not must.strip(b"use").strip() and not must.startswith((b" ", b"\t")):
                missing[name] = None
    return list(found), sorted(missing)


def _there(paths: Iterable[str]) -> list[str]:
    return [path for path in paths if os.path.isfile(path)]


@functools.cache
def _search_path(interpreter: str, language: Language) -> tuple[str, ...]:
    words, text = language.ask
    try:
        asked = subprocess.run(
            [interpreter, *words], input=text.encode(), capture_output=True, timeout=_SECONDS, check=True
        )
    except (OSError, subprocess.SubprocessError):
        return ()
    return tuple(line for line in os.fsdecode(asked.stdout).split("\n") if os.path.isabs(line))


def named_by_shell(script: str) -> list[str]:
    """The files that a shell script names by absolute paths: others that it reads, archives of compiled classes."""
    paths = {os.path.normpath(os.fsdecode(path)) for path in _NAMED_FILE.findall(_read(script))}
    return sorted(path for path in paths if os.path.isfile(path))


def _read(path: str) -> bytes:
    try:
        return foreign.read(path, most=_MOST_OF_A_SCRIPT)
    except (OSError, ValueError, LapidarError):
        return b""
