"""The launch files of a restored environment: a few lines of POSIX shell each, with no absolute path of it.

``bin/python`` executes the real interpreter through a loader, the environment's own or (with the host's libraries)
the system's. That lets it say where its libraries lie (``--library-path``: no loader variable leaks to children) and by
what name it was started (``--argv0``: then `sys.executable` is the launcher and `sys.prefix` the folder, found by the
runtime's own landmarks). A loader that is too old to be told a name starts the interpreter under the name of its file,
from which the landmarks are found too; `sys.executable` is then set when the interpreter starts (see `startup`). No
process is forked unless the launcher was started through a link or by a path with ``..`` in it.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

from lapidar.core.environment import marker
from lapidar.core.languages.python.standards.entry_points import Script

__all__ = ["Host", "Private", "entry_point", "interpreter", "program", "script", "starter", "tool"]

LOADER = "/lib64/ld-linux-x86-64.so.2"  # the System V ABI's place of the loader, AMD64 supplement

_FOLLOW_LINKS = """\
while [ -L "$file" ]; do
  target=$(readlink "$file")
  case $target in /*) file=$target ;; *) file=${file%/*}/$target ;; esac
done
"""

_INTERPRETER = """\
#!/bin/sh
# Written by lapidar restore: starts the interpreter of this environment. The folder may be moved.
# -s: the user's own folder of packages is not part of the snapshot.
unset PYTHONHOME
case $0 in /*) name=$0 ;; *) name=$PWD/$0 ;; esac
file=$name
@guard@@follow@case $file in
  */../* | */./* | *//*) at=$(CDPATH= cd -P -- "${file%/*}/.." && pwd) ;;
  *) at=${file%/*/*} ;;
esac
@exec@ "$at/@private@/@executable@" -s "$@"
"""

# Without a name the interpreter would take itself for that of the environment below, and change that.
_NO_VIRTUAL_ENVIRONMENT = """\
if [ -f "${name%/*}/../pyvenv.cfg" ]; then
  echo "lapidar: no virtual environment can be made from this environment: its loader is from before glibc 2.33" >&2
  exit 3
fi
"""

_PROGRAM = """\
#!/bin/sh
# Written by lapidar restore: starts a program of this environment through its own loader.
case $0 in */*) file=$0 ;; *) file=./$0 ;; esac
@follow@at=$(CDPATH= cd -P -- "${file%/*}/.." && pwd)
name=$0
@exec@ "$at/@path@" "$@"
"""

# The shell sees the command ":" and then the lines below it; Python sees a string that it does not use.
_ENTRY_POINT = """\
#!/bin/sh
''':'
# Written by lapidar restore: the shell reads this far, Python the lines below.
case $0 in */*) file=$0 ;; *) file=./$0 ;; esac
@follow@exec "${file%/*}/python" "$0" "$@"
'''
import sys

from @module@ import @first@

if __name__ == "__main__":
    sys.exit(@attribute@())
"""

_STARTER = """\
#!/bin/sh
# Written by lapidar restore: starts a script of a package with the interpreter of this environment.
case $0 in */*) file=$0 ;; *) file=./$0 ;; esac
@follow@exec "${file%/*}/python" "${file%/*}/../@scripts@/${file##*/}" "$@"
"""

_TOOL = """\
#!/bin/sh
# Written by lapidar restore: starts an outside program in a root of its own, where its files lie at their places.
case $0 in */*) file=$0 ;; *) file=./$0 ;; esac
@follow@exec "${file%/*}/python" -I "${file%/*}/../@script@" @words@ "$@"
"""


def _fill(template: str, **values: str) -> bytes:
    text = template.replace("@follow@", _FOLLOW_LINKS)
    for key, value in values.items():
        text = text.replace(f"@{key}@", value)
    return text.encode("utf-8")


def _inside(text: str) -> str:
    """Text for inside the shell's double quotes: none of it is for the shell."""
    return re.sub(r'([\\"$`])', r"\\\1", text)


@dataclass(frozen=True, slots=True)
class Private:
    """The environment's own libraries.

    Attributes:
        loader: the loader's file in the private folder.
        variables: which lead its libraries to their data: name -> path below the private folder.
        absolute: files, by their paths below the environment, whose DT_RPATH is not to be followed.
        options: those of the options that came late which the loader has.
    """

    loader: str
    variables: Mapping[str, str]
    absolute: Sequence[str]
    options: Collection[str]

    def command(self) -> str:
        """The shell's lines that start a program with these libraries, but for the program."""
        own = f"$at/{marker.PRIVATE}"
        settings = [f'export {name}="{own}/{_inside(path)}"\n' for name, path in sorted(self.variables.items())]
        # An empty name in the list is the program's own.
        inhibited = ":".join(["", *(f"$at/{_inside(path)}" for path in self.absolute)])
        rpath = f' --inhibit-rpath "{inhibited}"' if self.absolute else ""
        return (
            "".join(settings)
            + f'exec "{own}/{_inside(self.loader)}"{_late(self.options)} --library-path "{own}:$at/lib"{rpath}'
        )


@dataclass(frozen=True, slots=True)
class Host:
    """The host's libraries, by the host's own loader."""

    loader: str
    options: Collection[str]

    def command(self) -> str:
        """As that of `Private`."""
        named = _late(frozenset(self.options) - {"--inhibit-cache"})
        return f'exec {shlex.quote(self.loader)}{named} --library-path "$at/lib"'


def _late(options: Collection[str]) -> str:
    words = {"--inhibit-cache": " --inhibit-cache", "--argv0": ' --argv0 "$name"'}
    return "".join(text for option, text in words.items() if option in options)


def interpreter(executable: str, way: Private | Host) -> bytes:
    """The launcher of the interpreter whose file in the private folder is `executable`.

    Args:
        way: whose libraries it runs with.
    """
    guard = "" if "--argv0" in way.options else _NO_VIRTUAL_ENVIRONMENT
    command = way.command()
    return _fill(_INTERPRETER, guard=guard, exec=command, private=marker.PRIVATE, executable=_inside(executable))


def program(path: str, private: Private) -> bytes:
    """The launcher of a compiled program that lies at `path` below the environment."""
    return _fill(_PROGRAM, exec=private.command(), path=_inside(path))


def script(path: str, interpreter_path: str, private: Private) -> bytes:
    """The launcher of a script that a compiled interpreter runs; both paths are below the environment."""
    command = f'{private.command()} "$at/{_inside(interpreter_path)}"'
    return _fill(_PROGRAM, exec=command, path=_inside(path))


def tool(name: str, executable: str, interpreter_path: str | None, helper: str) -> bytes:
    """The launcher of an outside program that runs in a root of its own.

    Args:
        executable, interpreter_path: paths in that root.
        helper: the path of the script below the environment that makes the root.
    """
    words = shlex.join([name, executable, interpreter_path or ""])
    return _fill(_TOOL, script=helper, words=words)


def entry_point(script: Script) -> bytes:
    """The command that a distribution declares."""
    return _fill(
        _ENTRY_POINT, module=script.module, first=script.attribute.partition(".")[0], attribute=script.attribute
    )


def starter(scripts_folder: str) -> bytes:
    """What stands in bin/ for a script that lies, byte for byte, in `scripts_folder`."""
    return _fill(_STARTER, scripts=scripts_folder)
