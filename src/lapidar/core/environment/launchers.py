"""The launch files of a restored environment: a few lines of POSIX shell each, with no absolute path of it.

``bin/python`` executes the real interpreter through the system's loader, which lets it say by what name it was
started (``--argv0``: then `sys.executable` is the launcher and `sys.prefix` the folder, found by the runtime's
own landmarks) and where its shared library lies (``--library-path``: no loader variable leaks to children).
No process is forked unless the launcher was started through a link or by a path with ``..`` in it.
"""

from __future__ import annotations

from lapidar.core.environment import marker
from lapidar.core.standards.entry_points import Script

__all__ = ["entry_point", "interpreter", "starter"]

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
@follow@case $file in
  */../* | */./* | *//*) at=$(CDPATH= cd -P -- "${file%/*}/.." && pwd) ;;
  *) at=${file%/*/*} ;;
esac
exec @loader@ --argv0 "$name" --library-path "$at/lib" "$at/@private@/@executable@" -s "$@"
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


def _fill(template: str, **values: str) -> bytes:
    text = template.replace("@follow@", _FOLLOW_LINKS)
    for key, value in values.items():
        text = text.replace(f"@{key}@", value)
    return text.encode("utf-8")


def interpreter(executable: str) -> bytes:
    """The launcher of the interpreter whose file in the private folder is `executable`."""
    return _fill(_INTERPRETER, loader=LOADER, private=marker.PRIVATE, executable=executable)


def entry_point(script: Script) -> bytes:
    """The command that a distribution declares."""
    return _fill(
        _ENTRY_POINT, module=script.module, first=script.attribute.partition(".")[0], attribute=script.attribute
    )


def starter(scripts_folder: str) -> bytes:
    """What stands in bin/ for a script that lies, byte for byte, in `scripts_folder`."""
    return _fill(_STARTER, scripts=scripts_folder)
