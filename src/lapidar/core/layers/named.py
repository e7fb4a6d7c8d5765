"""Data of the machine that source names outright, in a text between quotes: fonts by their files, families where a line
speaks of fonts, locales."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable
from pathlib import Path

from msgspec import Struct

from lapidar.core import foreign
from lapidar.core.errors import LapidarError

__all__ = ["NONE", "Named", "in_source"]

_FOLDERS = ("/usr/share/fonts", "/usr/local/share/fonts")
_SUFFIXES = (".ttf", ".otf", ".ttc", ".otc", ".pfb")
_FONT = re.compile(r"""["']([^"'/\n]{1,120}\.(?:ttf|otf|ttc|otc|pfb))["']""", re.IGNORECASE)
_LOCALE = re.compile(r"""["']([a-z]{2,3}_[A-Z]{2}(?:\.[A-Za-z0-9-]{1,20})?(?:@[a-z]{1,20})?)["']""")
_WORDS = ("font", "family", "typeface")
_OF_FONTS = re.compile("|".join(_WORDS), re.IGNORECASE)
_FAMILY = re.compile(r"""["']([A-Z][A-Za-z0-9-]{1,30}(?: [A-Z0-9][A-Za-z0-9-]{0,30}){0,4})["']""")
_MOST_BYTES = 1 << 20  # of a source
_MOST_FAMILIES = 60


class Named(Struct, frozen=True):
    """What is named.

    Attributes:
        fonts: the files of fonts, as they lie on this machine.
        families: what may be families of fonts, where somebody knows them.
        locales: what may be locales.
    """

    fonts: tuple[str, ...] = ()
    families: tuple[str, ...] = ()
    locales: tuple[str, ...] = ()


NONE = Named()


def in_source(files: Iterable[Path]) -> Named:
    """What source files name. One that cannot be read names nothing."""
    names: set[str] = set()
    families: dict[str, None] = {}
    locales: set[str] = set()
    for file in files:
        try:
            text = foreign.read(file, most=_MOST_BYTES).decode("utf-8", "replace")
        except (OSError, LapidarError):
            continue
        locales |= set(_LOCALE.findall(text))
        # Few sources speak of fonts at all: it is cheap to see that one does not.
        plain = text.lower()
        if any(suffix in plain for suffix in _SUFFIXES):
            names |= set(_FONT.findall(text))
        if any(word in plain for word in _WORDS):
            for line in filter(_OF_FONTS.search, text.splitlines()):
                families |= dict.fromkeys(_FAMILY.findall(line))
    found = _lying(names) if names else {}
    return Named(tuple(sorted(found.values())), tuple(families)[:_MOST_FAMILIES], tuple(sorted(locales)))


def _lying(names: Iterable[str]) -> dict[str, str]:
    """Where font files of these names lie; of several, the first folder's, as who looks for them would find it."""
    wanted, found = {name.lower(): name for name in names}, dict[str, str]()
    for top in _FOLDERS:
        for folder, _, files in os.walk(top):
            for file in files:
                if file.lower() in wanted:
                    found.setdefault(wanted[file.lower()], f"{folder}/{file}")
    return found
