"""Fonts that programs ask for by a family's name: those that the system's font library (fontconfig) resolves, and a
configuration that leads to these alone, so that what is drawn has the same letters on every machine.

The configuration's form is that of fonts-conf(5). Its rules (which family stands for which, how letters are smoothed)
are the captured system's, except those that name folders of fonts.
"""

from __future__ import annotations

import hashlib
import io
import json
import os
import re
import subprocess
import sys
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path

from msgspec import Struct, field

from lapidar.core import foreign, sealed
from lapidar.core.cache.stowing import Draft, FileDraft, StreamDraft

__all__ = ["CONFIGURATION", "FOLDER", "LIBRARY", "PLACE", "Resolved", "drafts", "is_font", "resolve"]

LIBRARY = "libfontconfig.so.1"
PLACE = "fontconfig"  # below the private folder
FOLDER = f"{PLACE}/fonts"
CONFIGURATION = "fonts.conf"
RULES = Path("/etc/fonts/conf.d")
_SUFFIX = re.compile(r"\.(ttf|otf|ttc|otc|pfa|pfb|t1|afm|pcf|pcf\.gz|bdf)$", re.IGNORECASE)
_FOLDERS = re.compile(r"^(/usr/share|/usr/local/share|.*/\.local/share)/fonts/|^.*/\.fonts/")
# The first that understands a place relative to its own configuration.
_OLDEST = 21391
_SECONDS = 60.0

# Families that programs ask for without anybody having said so, and the styles that these come in.
_FAMILIES = (
    "sans-serif,serif,monospace,cursive,fantasy,system-ui,Sans,Serif,Monospace,Helvetica,Arial,Times,Times New Roman,"
    "Courier,Courier New,Symbol,DejaVu Sans,DejaVu Sans Mono,DejaVu Serif"
).split(",")
_STYLES = ("", ":bold", ":italic", ":bold:italic")

_TEXT = b"""\
<?xml version="1.0"?>
<!DOCTYPE fontconfig SYSTEM "urn:fontconfig:fonts.dtd">
<!-- Written by lapidar: the fonts of this environment, and no others. -->
<fontconfig>
  <dir prefix="relative">fonts</dir>
  <include ignore_missing="yes">rules</include>
  <cachedir prefix="xdg">fontconfig</cachedir>
</fontconfig>
"""

# Asks the library itself, in a process of its own: it is the machine's, and not ours to load.
_ASK = """
import ctypes, json, sys
library = ctypes.CDLL(sys.argv[1])
pointer = ctypes.c_void_p
for name in ("FcNameParse", "FcFontMatch", "FcInitLoadConfigAndFonts"):
    getattr(library, name).restype = pointer
config = pointer(library.FcInitLoadConfigAndFonts())
answers = []
for text in json.loads(sys.argv[2]):
    pattern = pointer(library.FcNameParse(text.encode()))
    library.FcConfigSubstitute(config, pattern, 0)
    library.FcDefaultSubstitute(pattern)
    code, path = ctypes.c_int(), ctypes.c_char_p()
    found = pointer(library.FcFontMatch(config, pattern, ctypes.byref(code)))
    if found and library.FcPatternGetString(found, b"file", 0, ctypes.byref(path)) == 0:
        file, families = path.value.decode("utf-8", "surrogateescape"), []
        while library.FcPatternGetString(found, b"family", len(families), ctypes.byref(path)) == 0:
            families.append(path.value.decode("utf-8", "replace"))
        answers.append([file, families])
    else:
        answers.append(["", []])
print(json.dumps([library.FcGetVersion(), answers]))
"""


class Resolved(Struct, frozen=True):
    """What the font library said.

    Attributes:
        files: the fonts that the usual families stand for.
        by_family: of the families that were asked for besides, the files of those that are on this machine: for
            another the font library would take what it has.
        problem: why these cannot be held, a sentence; "" where they can.
    """

    files: tuple[str, ...] = ()
    by_family: Mapping[str, Sequence[str]] = field(default_factory=dict)
    problem: str = ""


def is_font(path: str) -> bool:
    """Whether a path is one of a font."""
    return bool(_SUFFIX.search(path))


def resolve(library: str, folder: Path | None = None, families: Sequence[str] = ()) -> Resolved:
    """Which files the usual families are, by the font library of this machine; and those that are asked for besides.

    Args:
        library: its path.
        folder: where the answer is kept, for as long as nothing changes that it follows from; None to ask.
    """
    if folder is None:
        return _asked(library, families)
    asked = hashlib.sha256(repr(tuple(families)).encode("utf-8", "surrogateescape")).hexdigest()[:12]
    memory, state = folder / f"fonts-{asked}", _state(library)
    kept = sealed.read(memory)
    try:
        before, files, by_family, problem = json.loads(kept) if kept else ("", (), {}, "")
        if before == state:
            return Resolved(tuple(files), by_family, problem)
    except ValueError:
        pass  # another version's
    found = _asked(library, families)
    values = [state, found.files, found.by_family, found.problem]
    sealed.keep(memory, lambda: json.dumps(values).encode("utf-8"))
    return found


def _state(library: str) -> str:
    """What the answer follows from: the library, its rules, the folders of fonts, and the variables that it heeds."""
    home = os.path.expanduser("~")
    fonts = ["/usr/share/fonts", "/usr/local/share/fonts", f"{home}/.fonts", f"{home}/.local/share/fonts"]
    digest = hashlib.sha256(repr(sorted((k, v) for k, v in os.environ.items() if k.startswith("FONTCONFIG"))).encode())
    for top in (library, "/etc/fonts", f"{home}/.config/fontconfig", *fonts):
        for path in (top, *(os.path.join(place, one) for place, below, names in os.walk(top) for one in below + names)):
            # Of fonts the folders tell: a file that comes or goes changes its own.
            if top in fonts and is_font(path):
                continue
            try:
                status = os.stat(path)
            except OSError:
                continue
            digest.update(f"{path}\0{status.st_ino} {status.st_size} {status.st_mtime_ns}\n".encode("utf-8", "replace"))
    return digest.hexdigest()


def _asked(library: str, besides: Sequence[str]) -> Resolved:
    families = [*_FAMILIES, *besides]
    try:
        version, answers = _answers(library, [family + style for family in families for style in _STYLES])
    except (OSError, subprocess.SubprocessError, ValueError) as error:
        return Resolved(problem=f"the font library {library} did not say which fonts it uses ({_short(error)})")
    if version < _OLDEST:
        return Resolved(
            problem=f"the font library {library} is too old to be led to fonts of its own (from 2.13.91 on it can be): "
            "what draws by it uses the fonts of the machine that it runs on"
        )
    usual = len(_FAMILIES) * len(_STYLES)
    by_family: dict[str, list[str]] = {}
    for at, (path, names) in enumerate(answers[usual:]):
        family = besides[at // len(_STYLES)]
        if os.path.isfile(path) and family.casefold() in map(str.casefold, names):
            by_family.setdefault(family, []).append(path)
    return Resolved(tuple(sorted({path for path, _ in answers[:usual] if os.path.isfile(path)})), by_family)


def _answers(library: str, patterns: Sequence[str]) -> tuple[int, list[tuple[str, list[str]]]]:
    """The font library's version; and for each pattern the file that it takes, and the names of that one's family.

    Raises:
        OSError, SubprocessError, ValueError: it does not say.
    """
    words = [sys.executable, "-I", "-S", "-c", _ASK, library, json.dumps(patterns)]
    asked = subprocess.run(words, capture_output=True, timeout=_SECONDS, check=True, stdin=subprocess.DEVNULL)
    version, answers = json.loads(asked.stdout)
    return version, [(path, names) for path, names in answers]


def _short(error: Exception) -> str:
    return f"exit code {error.returncode}" if isinstance(error, subprocess.CalledProcessError) else type(error).__name__


def drafts(fonts: Iterable[str], rules: Path = RULES) -> Iterator[Draft]:
    """The files of a tree that lead to these fonts and no others; nothing where there are none.

    Args:
        fonts: paths of font files.
        rules: the folder of the system's rules.
    """
    placed: dict[str, str] = {}
    for path in sorted(set(fonts)):
        placed.setdefault(f"{FOLDER}/{_below(path)}", path)
    if not placed:
        return
    yield StreamDraft(f"{PLACE}/{CONFIGURATION}", lambda: io.BytesIO(_TEXT), len(_TEXT))
    yield from (FileDraft(path, source) for path, source in placed.items())
    for rule in sorted(rules.glob("*.conf")) if rules.is_dir() else ():
        if _holds(rule):
            yield FileDraft(f"{PLACE}/rules/{rule.name}", str(rule))


def _below(path: str) -> str:
    found = _FOLDERS.match(path)
    return path[found.end() :] if found else os.path.basename(path)


def _holds(rule: Path) -> bool:
    """Whether a file of rules says nothing of this machine's folders."""
    try:
        text = foreign.read(rule)
    except OSError:
        return False
    return not re.search(rb"<(dir|cachedir|include|remap-dir|reset-dirs)\b", text)
