"""The launch files of Python: of its interpreter, of the commands that distributions declare, of their scripts.

``bin/python`` executes the real interpreter through a loader, the environment's own or (with the host's libraries)
the system's. That lets it say where its libraries lie (``--library-path``: no loader variable leaks to children) and by
what name it was started (``--argv0``: then `sys.executable` is the launcher and `sys.prefix` the folder, found by the
runtime's own landmarks). A loader that is too old to be told a name starts the interpreter under the name of its file,
from which the landmarks are found too; `sys.executable` is then set when the interpreter starts (see `startup`). No
process is forked unless the launcher was started through a link or by a path with ``..`` in it.
"""

from __future__ import annotations

from collections.abc import Mapping

from msgspec.structs import replace

from lapidar.core.environment import marker
from lapidar.core.environment.launchers import Host, Private, fill, inside
from lapidar.core.languages.python.standards.entry_points import Script

__all__ = ["entry_point", "interpreter", "starter"]

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
# Copied into a virtual environment: that says where this one is.
if [ ! -d "$at/@private@" ] && [ -f "$at/pyvenv.cfg" ]; then
  while read -r key is value; do
    if [ "$key" = home ]; then home=${value%/bin}; fi
  done < "$at/pyvenv.cfg"
  at=$home
fi
@exec@ "$at/@private@/@executable@" -s "$@"
"""

# Without a name the interpreter would take itself for that of the environment below, and change that.
_NO_VIRTUAL_ENVIRONMENT = """\
if [ -f "${name%/*}/../pyvenv.cfg" ]; then
  echo "lapidar: no virtual environment can be made from this environment: its loader is from before glibc 2.33" >&2
  exit 3
fi
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


def interpreter(executable: str, way: Private | Host, variables: Mapping[str, str]) -> bytes:
    """The launcher of the interpreter whose file in the private folder is `executable`.

    Args:
        way: whose libraries it runs with.
        variables: which lead Python to the data of its own libraries: name -> path below the private folder.
    """
    guard = "" if "--argv0" in way.options else _NO_VIRTUAL_ENVIRONMENT
    if isinstance(way, Private):
        way = replace(way, variables={**way.variables, **variables})
    return fill(_INTERPRETER, guard=guard, exec=way.command(), private=marker.PRIVATE, executable=inside(executable))


def entry_point(script: Script) -> bytes:
    """The command that a distribution declares."""
    return fill(
        _ENTRY_POINT, module=script.module, first=script.attribute.partition(".")[0], attribute=script.attribute
    )


def starter(scripts_folder: str) -> bytes:
    """What stands in bin/ for a script that lies, byte for byte, in `scripts_folder`."""
    return fill(_STARTER, scripts=scripts_folder)
