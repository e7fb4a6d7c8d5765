"""What in results would keep a rerun from giving the same: what is another each time, and kinds that cannot be read
here. A look at the text, by the forms of such things: it says where to look, and is no proof."""

from __future__ import annotations

import datetime
import importlib.util
import re
from collections.abc import Iterator, Mapping
from pathlib import Path

__all__ = ["hindrances"]

_MOST_FILES, _MOST_BYTES = 50, 200_000
_TEXTS = frozenset(("text", "log", "table", "values", "lines of values", "markup", "drawing", "notebook"))
# By kind, the module of the library that reads it, and what of lapidar brings that.
_READERS = {
    **dict.fromkeys(("netCDF", "MATLAB"), ("scipy", "compare")),
    **dict.fromkeys(("Parquet", "Feather"), ("pyarrow", "compare")),
    "picture": ("PIL", "compare"),
    "array": ("numpy", "compare"),
    "HDF5": ("h5py", "compare"),
    "workbook": ("openpyxl", "compare"),
    "FITS": ("astropy", "sciences"),
    "DICOM": ("pydicom", "sciences"),
    "NIfTI": ("nibabel", "sciences"),
}
_ADDRESS = re.compile(rb"\b0x[0-9a-f]{8,16}\b")
_UUID = re.compile(rb"\b[0-9a-f]{8}-[0-9a-f]{4}-[1-8][0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}\b")


def hindrances(results: Mapping[str, str], kinds: Mapping[str, str], root: str, began: float) -> list[str]:
    """What to say of results, a sentence each.

    Args:
        results: the files, by what they are called.
        kinds: what each file is compared as.
        root: the project's folder.
        began: when the run did, in seconds since 1970.
    """
    found: dict[str, list[str]] = {}
    for path, file in list(results.items())[:_MOST_FILES]:
        for what in _of(Path(file), kinds.get(file, ""), root, began):
            found.setdefault(what, []).append(path)
    return [f"{_some(paths)}: {what}" for what, paths in found.items()]


def _of(file: Path, kind: str, root: str, began: float) -> Iterator[str]:
    reader, extra = _READERS.get(kind, ("", ""))
    if reader and importlib.util.find_spec(reader) is None:
        yield f"of the kind {kind}, which cannot be read here (install lapidar[{extra}])"
    if kind not in _TEXTS:
        return
    with file.open("rb") as stream:
        text = stream.read(_MOST_BYTES)
    if root.encode() in text:
        yield "the project's folder stands in it, which is another elsewhere"
    if _clock(began).search(text):
        yield "the time of the run stands in it (a log's own time stamps count for nothing)"
    if _ADDRESS.search(text):
        yield "addresses in memory stand in it, which are others each time"
    if _UUID.search(text):
        yield "made-up identities (uuid) stand in it, which are others each time"


def _clock(began: float) -> re.Pattern[bytes]:
    """A time of day on the day of the run, here or at Greenwich."""
    here, there = datetime.datetime.fromtimestamp(began), datetime.datetime.fromtimestamp(began, datetime.UTC)
    days = "|".join(sorted({time.strftime("%Y-%m-%d") for time in (here, there)}))
    return re.compile(rf"(?m)(?<!^)(?<!^\[)(?:{days})[T ]\d\d:\d\d".encode())


def _some(paths: list[str]) -> str:
    return ", ".join(paths[:3]) + (f" and {len(paths) - 3} more" if len(paths) > 3 else "")
