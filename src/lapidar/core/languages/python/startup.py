"""What a restored environment does when its interpreter starts, in the lines of a .pth file: with libraries of its own
it runs ``lib/lapidar/start.py`` (see ``_start.py``) when it is needed; with an old loader it learns its name; while a
run is recorded it tells what names it looks for (``_sought.py``)."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable
from pathlib import Path
from typing import NamedTuple

from lapidar.core.environment import marker
from lapidar.core.languages.python import shipped
from lapidar.core.system import companions, fonts

__all__ = ["FONT_PLACES_OF", "PATH_FILE", "SCRIPT", "SEEKER", "Start", "naming", "of", "telling"]

PATH_FILE = "lapidar-libraries.pth"  # in the folder of packages
SCRIPT = f"{marker.PRIVATE}/start.py"
SEEKER = f"{marker.PRIVATE}/sought.py"


class Start(NamedTuple):
    """What leads libraries to their data.

    Attributes:
        variables: those of Python's own that must be set before it starts: name -> path below the private folder.
        line: the .pth file.
        script: what that runs when a module is imported that needs the other variables.
    """

    variables: dict[str, str]
    line: bytes
    script: bytes


# A finder of modules that knows a few names, and has the script do the rest when one of them is asked for. A .pth file
# is read by lines and every start runs it, so it is written as one line.
_ON_IMPORT = """\
import sys

class OnImport:
    of_lapidar = True
    names = frozenset(@names@)
    at = sys.base_prefix + '@script@'
    @classmethod
    def find_spec(cls, name, path=None, target=None):
        if name not in cls.names: return None
        scope = {}
        exec(compile(open(cls.at).read(), cls.at, 'exec'), scope)
        return scope['find_spec'](name, path, target)

sys.meta_path.insert(0, OnImport)
"""

# Where the loader cannot be told a name, the interpreter was started under that of its file.
_NAMED = "import sys; sys.executable = sys._base_executable = sys.base_prefix + @executable@\n"


# As short as can be: every start reads it.
_TELLING = """\
import os, sys; at = sys.base_prefix + '/@script@'; \
exec(compile(open(at).read(), at, 'exec'), {'__name__': 'lapidar'}) if '@watched@' in os.environ else None
"""


def telling() -> tuple[bytes, bytes]:
    """The line by which an interpreter tells what names it looks for while a run is recorded; and the script for it."""
    line = _TELLING.replace("@script@", SEEKER).replace("@watched@", marker.WATCHED)
    script = Path(__file__).with_name("_sought.py").read_text("utf-8")
    head = f"import sys\n\nSOUGHT = {json.dumps(marker.SOUGHT + 'python/')}\n"
    head += f"ANY_LIBRARY = {json.dumps(marker.SOUGHT + 'library/*')}\n"
    return line.encode("utf-8"), script.replace("import sys\n", head, 1).encode("utf-8")


def naming(executable: str) -> bytes:
    """The line by which an interpreter knows its launcher, where its loader could not be told.

    Args:
        executable: the launcher's path below the environment.
    """
    return _NAMED.replace("@executable@", repr(f"/{executable}")).encode("utf-8")


# What Python imports when a program begins to use data.
_MODULES = {companions.TLS: "ssl", companions.TERMINALS: "_curses", companions.WINDOWS: "_tkinter"}


# Modules that name places of the system outright -> what they name, and what that is here. The places of fonts and of
# time zones are those of the libraries' tree; the list that is kept of fonts is one for this environment alone.
_FONTS = f"@private@/{fonts.FOLDER}"
_FONT_NAMES = {
    "/usr/X11R6/lib/X11/fonts": _FONTS,
    "/usr/X11/lib/X11/fonts": _FONTS,
    "/usr/share/fonts": _FONTS,
    "/usr/local/share/fonts": _FONTS,
    "/usr/lib/openoffice/share/fonts": _FONTS,
    ".fonts": _FONTS,
    ".local/share": f"@private@/{fonts.PLACE}",
    "XDG_DATA_HOME": "LAPIDAR_NO_FONTS_BUT_ITS_OWN",
    "fc-list": "@private@/fc-list",  # there is no such file: what the system's own lists is not asked
    "fontlist": "fontlist-@mark@",
}
_ZONE_NAMES = dict.fromkeys(
    ("/usr/share/zoneinfo", "/usr/lib/zoneinfo", "/usr/share/lib/zoneinfo", "/etc/zoneinfo"),
    f"@private@/{companions.ZONES}",
)
_ZONE_NAMES["/usr"] = "@private@"  # as one distributor has it, put together of its parts
# One that looks into the folders of fonts below each of several places.
_FONT_PLACES = {
    "/usr/local/share:/usr/share": f"@private@/{fonts.PLACE}",
    "~/.local/share": f"@private@/{fonts.PLACE}",
    "XDG_DATA_HOME": "LAPIDAR_NO_FONTS_BUT_ITS_OWN",
    "XDG_DATA_DIRS": "LAPIDAR_NO_FONTS_BUT_ITS_OWN",
}
_NAMING_FONTS = ("matplotlib.font_manager",)
FONT_PLACES_OF = ("PIL.ImageFont",)
_NAMING_ZONES = ("dateutil.tz.tz", "pytz", "pytz.tzfile")


def of(placed: Iterable[str], named: Iterable[tuple[str, list[str]]] = (), of_build: Iterable[str] = ()) -> Start:
    """The start of an environment.

    Args:
        placed: the paths of the libraries' tree.
        named: modules that name data of packages by the places of the system, and the paths in them.
        of_build: modules that say where the runtime's own files were when it was built.
    """
    paths = list(placed)
    names: dict[str, dict[str, str]] = {
        module: {path: "@prefix@" + path.removeprefix(shipped.PREFIX) for path in led} for module, led in named
    }
    late: dict[str, list[tuple[str, str, list[str]]]] = {}
    for data, name, path in companions.variables(paths):
        if data.use:
            unless = list(data.folders) if data.host_first else []
            late.setdefault(_MODULES[data.use], []).append((name, path, unless))
    zones = any(path.startswith(companions.ZONES + "/") for path in paths)
    script = Path(__file__).with_name("_start.py").read_text("utf-8")
    for modules, led, when in (
        (_NAMING_FONTS, _FONT_NAMES, True),
        (FONT_PLACES_OF, _FONT_PLACES, names.keys() >= {*FONT_PLACES_OF}),
        (_NAMING_ZONES, _ZONE_NAMES, zones),
    ):
        for module in modules if when else ():
            names[module] = {**led, **names.get(module, {})}
    own_fonts = [path for path in paths if path.startswith(fonts.FOLDER + "/")]
    head = {"VARIABLES": late, "NAMES": names, "FONTS": hashlib.sha256("\n".join(own_fonts).encode()).hexdigest()}
    lines = "".join(f"{name} = {json.dumps(value, indent=1, sort_keys=True)}\n" for name, value in head.items())
    lines = f"PRIVATE = sys.base_prefix + {json.dumps('/' + marker.PRIVATE)}\n{lines}"
    script = script.replace("import sys\n", f"import sys\n\n{lines}", 1)
    hook = _ON_IMPORT.replace("@names@", repr(sorted({*late, *names, *of_build, "ctypes.util"})))
    hook = hook.replace("@script@", f"/{SCRIPT}")
    line = f"import sys; exec({hook!r}, {{'__name__': 'lapidar'}})\n"
    variables = {"PYTHONTZPATH": companions.ZONES} if zones else {}
    return Start(variables, line.encode("utf-8"), script.encode("utf-8"))
