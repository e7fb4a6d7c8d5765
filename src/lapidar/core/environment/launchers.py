"""The launch files of a restored environment: a few lines of POSIX shell each, with no absolute path of it.

A compiled program is executed through a loader, the environment's own or (with the host's libraries) the system's. It
is told where the libraries lie (``--library-path``: no loader variable leaks to children) and by what name the program
was started (``--argv0``, where it has that option).
"""

from __future__ import annotations

import os
import posixpath
import re
import shlex
from collections.abc import Collection, Mapping, Sequence

from msgspec import Struct

from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import EXECUTABLE, Entry
from lapidar.core.environment import marker
from lapidar.core.system import elf
from lapidar.core.system.loader import VARIABLES, options_of

__all__ = [
    "AT_LATE",
    "CLOSED",
    "DRIVERS",
    "LATE",
    "LIBRARIES_PLACE",
    "LINKER",
    "Host",
    "Private",
    "behind",
    "behind_starter",
    "can_start",
    "fill",
    "inside",
    "is_behind_starter",
    "is_program_inside",
    "linker",
    "program",
    "script",
    "tool",
]

LOADER = "/lib64/ld-linux-x86-64.so.2"  # the System V ABI's place of the loader, AMD64 supplement

CLOSED = "loader"  # the folder, in the private one, of the loader that finds nothing of the host
LATE = "late"  # the folder there of libraries under whose names packages bring others, which come first for these
AT_LATE = "/proc/self/fd/9"  # that folder as a loader can have it built in, wherever it lies: the launcher opens it
LIBRARIES_PLACE = "libraries"  # among a runtime's places: where its own shared libraries lie, if not in lib
LINKER = f"{marker.PRIVATE}/linking/ld"  # what compilers find in the linker's stead
DRIVERS = "drivers"  # the folder there of links to libraries of the host's device drivers

_BEHIND = ".program"

_FOLLOW_LINKS = """\
while [ -L "$file" ]; do
  target=$(readlink "$file")
  case $target in /*) file=$target ;; *) file=${file%/*}/$target ;; esac
done
"""

_PROGRAM = """\
#!/bin/sh
# Written by lapidar restore: starts a program of this environment through its own loader.
case $0 in */*) file=$0 ;; *) file=./$0 ;; esac
@follow@at=$(CDPATH= cd -P -- "${file%/*}/@up@" && pwd)
name=$0
@exec@ "$at/@path@" "$@"
"""

_TOOL = """\
#!/bin/sh
# Written by lapidar restore: starts an outside program in a root of its own, where its files lie at their places.
case $0 in */*) file=$0 ;; *) file=./$0 ;; esac
@follow@at=$(CDPATH= cd -P -- "${file%/*}/.." && pwd)
helper=$at/@helper@
# That root has folders of its own for these, and the host's below another name.
case $at in /usr/* | /etc/*) at=/.host$at ;; esac
@settings@exec "$helper" @words@ "$@"
"""


_LINKER = """\
#!/bin/sh
# Written by lapidar restore: what is linked here runs with the libraries of this environment.
case " $* " in *" -shared "* | *" -r "* | *" -static "*) exec /usr/bin/ld "$@" ;; esac
own=${0%/*/*}
exec /usr/bin/ld "$@" --dynamic-linker="$own/@loader@" -rpath "$own"
"""


def fill(template: str, **values: str) -> bytes:
    """A template with its ``@places@`` filled; ``@follow@`` is the loop that follows links to the launcher itself."""
    text = template.replace("@follow@", _FOLLOW_LINKS)
    for key, value in values.items():
        text = text.replace(f"@{key}@", value)
    return text.encode("utf-8")


def inside(text: str) -> str:
    """Text for inside the shell's double quotes: none of it is for the shell."""
    return re.sub(r'([\\"$`])', r"\\\1", text)


class Private(Struct, frozen=True):
    """The environment's own libraries.

    Attributes:
        loader: the loader's file in the private folder.
        variables: which lead its libraries to their data: name -> path below the private folder.
        absolute: files, by their paths below the environment, whose DT_RPATH is not to be followed.
        options: those of the options that came late which the loader has.
        closed: whether there is a loader that finds nothing of the host.
        late: whether there is a folder of libraries that are looked for last.
        drivers: whether there are links to the host's device drivers.
        keeps: the loader's variables that the snapshot declares; the caller's others do not count.
        folders: where runtimes have their own shared libraries, below the environment.
    """

    loader: str
    variables: Mapping[str, str]
    absolute: Sequence[str]
    options: Collection[str]
    closed: bool = False
    late: bool = False
    drivers: bool = False
    keeps: Collection[str] = ()
    folders: Sequence[str] = ("lib",)

    def settings(self) -> str:
        """The shell's lines that lead libraries to their data, and drop the caller's variables of the loader."""
        own = f"$at/{marker.PRIVATE}"
        lines = [f'export {name}="{own}/{inside(path)}"\n' for name, path in sorted(self.variables.items())]
        unset = " ".join(name for name in VARIABLES if name not in self.keeps)
        return "".join(lines) + (f"unset {unset}\n" if unset else "")

    def command(self) -> str:
        """The shell's lines that start a program with these libraries, but for the program."""
        own = f"$at/{marker.PRIVATE}"
        # An empty name in the list is the program's own.
        inhibited = ":".join(["", *(f"$at/{inside(path)}" for path in self.absolute)])
        rpath = f' --inhibit-rpath "{inhibited}"' if self.absolute else ""
        loader = f"{CLOSED}/{self.loader}" if self.closed else self.loader
        drivers = f":{own}/{DRIVERS}" if self.drivers else ""
        folders = f"{own}{_below(self.folders)}{drivers}"
        return (
            self.settings()
            + (f'exec 9<"{own}/{LATE}"\n' if self.late else "")
            + f'exec "{own}/{inside(loader)}"{_late(self.options)} --library-path "{folders}"{rpath}'
        )


class Host(Struct, frozen=True):
    """The host's libraries, by the host's own loader."""

    loader: str
    options: Collection[str]
    folders: Sequence[str] = ("lib",)

    @classmethod
    def of(cls, program: str | None, folders: Sequence[str] = ("lib",)) -> Host:
        """By the loader that an executable asks for: another one on a system without glibc."""
        facts = elf.read(program) if program else None
        loader = facts.interpreter if facts and facts.interpreter else LOADER
        return cls(loader, options_of(loader), folders)

    def command(self) -> str:
        """As that of `Private`."""
        named = _late(frozenset(self.options) - {"--inhibit-cache"})
        return f'exec {shlex.quote(self.loader)}{named} --library-path "{_below(self.folders)[1:]}"'


def _below(folders: Sequence[str]) -> str:
    """Folders of the environment for the loader, each with a colon before it."""
    return "".join(f":$at/{inside(folder)}" for folder in folders)


def _late(options: Collection[str]) -> str:
    words = {"--inhibit-cache": " --inhibit-cache", "--argv0": ' --argv0 "$name"'}
    return "".join(text for option, text in words.items() if option in options)


def program(path: str, private: Private, up: str = "..") -> bytes:
    """The launcher of a compiled program that lies at `path` below the environment.

    Args:
        up: the way from the launcher's folder to the environment's.
    """
    return fill(_PROGRAM, exec=private.command(), path=inside(path), up=up)


def can_start(file: str, loader: str) -> bool:
    """Whether a file is a compiled program that an environment's loader can start. One that asks the kernel for its own
    file would be told the loader, and is left as it is.

    Args:
        loader: the loader's file name.
    """
    try:
        with open(file, "rb") as stream:
            if stream.read(4) != b"\x7fELF":
                return False
            facts = elf.read(file)
            if facts is None or os.path.basename(facts.interpreter or "") != loader:
                return False
            return b"/proc/self/exe" not in stream.read()
    except OSError:
        return False


def is_program_inside(entry: Entry, cache: Cache, private: Private | None) -> bool:
    """Whether a file of a package is a compiled program, which is to run with the environment's own libraries."""
    if private is None or entry.kind != EXECUTABLE or ".so" in entry.path.rpartition("/")[2]:
        return False
    return can_start(cache.entry_path(entry), private.loader)


def behind_starter(path: str) -> str:
    """Where a program inside a package's folder lies that a starter stands in the place of: beside it, so that what it
    says of places relative to itself holds."""
    folder, _, name = path.rpartition("/")
    return f"{folder}/.{name}{_BEHIND}"


def is_behind_starter(path: str) -> bool:
    """Whether a path is one of those."""
    name = path.rpartition("/")[2]
    return name.startswith(".") and name.endswith(_BEHIND)


def script(path: str, interpreter_path: str, private: Private) -> bytes:
    """The launcher of a script that a compiled interpreter runs; both paths are below the environment."""
    command = f'{private.command()} "$at/{inside(interpreter_path)}"'
    return fill(_PROGRAM, exec=command, path=inside(path), up="..")


def tool(name: str, executable: str, interpreter_path: str | None, private: Private, helper: str, links: bool) -> bytes:
    """The launcher of an outside program that runs in a root of its own.

    Args:
        executable, interpreter_path: paths in that root.
        helper: the path of the program below the environment that makes the root.
        links: whether it may link programs: with the environment's libraries.
    """
    words = shlex.join([private.loader, name, executable, interpreter_path or ""])
    # Where a compiler looks for the linker first.
    linking = f'export COMPILER_PATH="$at/{posixpath.dirname(LINKER)}"\n' if links else ""
    return fill(_TOOL, helper=helper, words=words, settings=private.settings() + linking)


def behind(text: bytes, words: Sequence[str]) -> bytes | None:
    """A launcher that starts the environment's loader behind an emulator's words; None for what is no such launcher."""
    starts = f'\nexec "$at/{marker.PRIVATE}/'.encode()
    if starts not in text:
        return None
    return text.replace(starts, f"\nexec {shlex.join(words)} ".encode() + starts.removeprefix(b"\nexec "))


def linker(private: Private) -> bytes:
    """The linker as compilers start it: a program that it makes starts by the environment's loader, as what the
    environment has of programs does; it is for this environment alone, at its place. Libraries are as they would be."""
    return _LINKER.replace("@loader@", inside(private.loader)).encode()
