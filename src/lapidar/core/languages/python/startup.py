"""What a restored environment does when its interpreter starts, in the lines of a .pth file: with libraries of its own
it runs ``lib/lapidar/start.py`` (see ``_start.py``) when it is needed; with an old loader it learns its name."""

from __future__ import annotations

import json
from collections.abc import Iterable
from pathlib import Path
from typing import NamedTuple

from lapidar.core.environment import marker
from lapidar.core.system import companions

__all__ = ["PATH_FILE", "SCRIPT", "Start", "entering", "naming", "of"]

PATH_FILE = "lapidar-libraries.pth"  # in the folder of packages
SCRIPT = f"{marker.PRIVATE}/start.py"


class Start(NamedTuple):
    """What leads libraries to their data.

    Attributes:
        variables: those that must be set before a process starts: name -> path below the private folder.
        line: the .pth file.
        script: what that runs when a module is imported that needs the other variables.
    """

    variables: dict[str, str]
    line: bytes
    script: bytes


# The whole of it is one line, because Python reads such a file by lines, and short, because every start runs it: a
# finder of modules that knows a few names, and has the script do the rest when one of them is asked for.
_LINE = (
    "import sys; sys.meta_path.insert(0, type('OnImport', (), {'of_lapidar': True, 'find_spec': staticmethod("
    "lambda name, path=None, target=None, *, names=frozenset(@names@), at=sys.base_prefix + '@script@': "
    "(lambda scope: (exec(compile(open(at).read(), at, 'exec'), scope), scope['find_spec'](name, path, target))[1])({})"
    " if name in names else None)})())\n"
)

# Where the loader cannot be told a name, the interpreter was started under that of its file.
_NAMED = "import sys; sys.executable = sys._base_executable = sys.base_prefix + @executable@\n"


def naming(executable: str) -> bytes:
    """The line by which an interpreter knows its launcher, where its loader could not be told.

    Args:
        executable: the launcher's path below the environment.
    """
    return _NAMED.replace("@executable@", repr(f"/{executable}")).encode("utf-8")


def of(placed: Iterable[str]) -> Start:
    """The start of an environment.

    Args:
        placed: the paths of the layer's tree.
    """
    early: dict[str, str] = {}
    late: dict[str, list[tuple[str, str, list[str]]]] = {}
    for data, name, path in companions.variables(placed):
        if data.module:
            late.setdefault(data.module, []).append((name, path, list(data.folders) if data.host_first else []))
        else:
            early[name] = path
    script = Path(__file__).with_name("_start.py").read_text("utf-8")
    head = f"PRIVATE = sys.base_prefix + {json.dumps('/' + marker.PRIVATE)}\nVARIABLES = {json.dumps(late, indent=1)}\n"
    script = script.replace("import sys\n", f"import sys\n\n{head}", 1)
    line = _LINE.replace("@names@", repr(sorted({*late, "ctypes.util"}))).replace("@script@", f"/{SCRIPT}")
    return Start(early, line.encode("utf-8"), script.encode("utf-8"))


def entering(loader: str) -> bytes:
    """The script that starts outside programs in a root of their own, see ``_enter.py``.

    Args:
        loader: the loader's file in the private folder.
    """
    return Path(__file__).with_name("_enter.py").read_text("utf-8").replace("@loader@", loader).encode("utf-8")
