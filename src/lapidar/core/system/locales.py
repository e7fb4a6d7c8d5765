"""The C library's locale data: folders of ``/usr/lib/locale``, and the archive beside them.

The archive's form is that of glibc's ``locarchive.h``: hashed names lead to records of places, one a category; what
lies there is, byte for byte, the file that the category would be in a folder.
"""

from __future__ import annotations

import io
import os
import re
import struct
from collections.abc import Callable, Iterable, Iterator, Mapping
from pathlib import Path
from typing import IO

from lapidar.core.cache.stowing import Draft, FileDraft, LinkDraft, StreamDraft

__all__ = ["drafts", "named"]

FOLDER = Path("/usr/lib/locale")
_MAGIC = 0xDE020109
_HEADER, _NAME, _PLACE = struct.Struct("<14I"), struct.Struct("<3I"), struct.Struct("<2I")
_CATEGORIES = (
    "LC_CTYPE LC_NUMERIC LC_TIME LC_COLLATE LC_MONETARY LC_MESSAGES/SYS_LC_MESSAGES - LC_PAPER LC_NAME LC_ADDRESS "
    "LC_TELEPHONE LC_MEASUREMENT LC_IDENTIFICATION"
).split()
_MOST_BYTES = 64 << 20
_BUILT_IN = frozenset({"", "C", "POSIX"})
_ALWAYS = "C.UTF-8"  # runtimes take it where nothing is set


def named(variables: Mapping[str, str]) -> list[str]:
    """The locales that variables name (LANG, LC_*), and the one that runtimes fall back to."""
    names = {value for name, value in variables.items() if name == "LANG" or name.startswith("LC_")}
    return sorted((names | {_ALWAYS}) - _BUILT_IN)


def _folder_name(locale: str) -> str:
    """The name as folders and the archive have it: ``de_DE.UTF-8`` is ``de_DE.utf8``."""
    matched = re.fullmatch(r"([^.@]+)(?:\.([^@]+))?(@.+)?", locale)
    if matched is None or "/" in locale:
        return ""
    charset = re.sub(r"[^a-z0-9]", "", (matched[2] or "").lower())
    return matched[1] + (f".{charset}" if charset else "") + (matched[3] or "")


def drafts(locales: Iterable[str], place: str, folder: Path = FOLDER) -> Iterator[Draft]:
    """The files of locales.

    Args:
        place: the folder in the tree that they go to.
    """
    for locale in locales:
        name = _folder_name(locale)
        if not name:
            continue  # no name of a locale; it may be a path
        own = next((folder / one for one in (name, locale) if (folder / one).is_dir()), None)
        found = list(_of_folder(own, f"{place}/{name}") if own else _of_archive(folder / "locale-archive", name, place))
        yield from found
        if found and name != locale:
            # By the name as it is asked for too, so that no folder of the host with that name is found before it.
            yield LinkDraft(f"{place}/{locale}", name)


def _of_folder(folder: Path, place: str) -> Iterator[Draft]:
    for top, _, files in os.walk(folder):
        for file in sorted(files):
            path = f"{top}/{file}"
            yield FileDraft(f"{place}/{os.path.relpath(path, folder)}", os.path.realpath(path))


def _of_archive(archive: Path, name: str, place: str) -> Iterator[Draft]:
    try:
        with open(archive, "rb") as stream:
            found = list(_records(stream, os.fstat(stream.fileno()).st_size, name))
    except (OSError, struct.error):
        return
    for category, data in found:
        yield StreamDraft(f"{place}/{name}/{category}", _opener(data), len(data))


def _opener(data: bytes) -> Callable[[], IO[bytes]]:
    return lambda: io.BytesIO(data)


def _records(stream: IO[bytes], size: int, name: str) -> Iterator[tuple[str, bytes]]:
    header = _HEADER.unpack(_piece(stream, 0, _HEADER.size, size))
    if header[0] != _MAGIC:
        return
    names, _, slots = header[2:5]
    table = _piece(stream, names, slots * _NAME.size, size)
    wanted = os.fsencode(name) + b"\0"
    for _, at, record in _NAME.iter_unpack(table):
        if record and _piece(stream, at, len(wanted), size) == wanted:
            places = _piece(stream, record + 4, len(_CATEGORIES) * _PLACE.size, size)
            for category, (offset, length) in zip(_CATEGORIES, _PLACE.iter_unpack(places), strict=True):
                if category != "-" and length:
                    yield category, _piece(stream, offset, length, size)
            return


def _piece(stream: IO[bytes], offset: int, length: int, size: int) -> bytes:
    if offset + length > size or length > _MOST_BYTES:
        raise struct.error("the archive is cut short")
    stream.seek(offset)
    return stream.read(length)
