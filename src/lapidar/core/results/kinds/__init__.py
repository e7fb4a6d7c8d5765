"""The kinds of results: how one is known, by its content and only then by its name, and what compares it."""

from __future__ import annotations

import codecs
import json
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, cast

from lapidar.core.results.packed import BROKEN, HEADS, unpacked
from lapidar.core.results.reading import FOUND, Reading, encoding_of
from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import BeyondLimit, Found, Pair, Unreadable, Verdict

if TYPE_CHECKING:
    from collections.abc import Callable

__all__ = ["compare_contents", "compared_by", "kind_of"]

_HEAD = 65_536
_XML = (".xml", ".gpx", ".kml", ".gml", ".graphml", ".rdf", ".xhtml", ".htm", ".html", ".svg")
# How values that R saved begin.
_R_HEADS = (b"X\n\0\0\0", b"RDX", b"A\n2\n", b"A\n3\n", b"RDA", b"B\n\2\0\0\0", b"B\n\3\0\0\0")
_PACKED_ARCHIVES = (".tar.gz", ".tgz", ".tar.bz2", ".tar.xz", ".txz", ".tbz2")
_PICKLES = (".pkl", ".pickle")
_TABLES = (".csv", ".tsv", ".tab", ".dat")

# What compares a kind: a module and its function, loaded when something is compared as it.
_COMPARE: dict[str, str] = {
    "text": "text.compare",
    "log": "text.compare",
    "table": "table.compare",
    "values": "values.compare",
    "lines of values": "values.compare_lines",
    "notebook": "notebook.compare",
    "markup": "markup.compare",
    "drawing": "markup.compare_drawing",
    "picture": "picture.compare",
    "PDF": "pdf.compare",
    "array": "array.compare",
    "HDF5": "array.compare_hdf5",
    "netCDF": "array.compare_netcdf",
    "MATLAB": "array.compare_matlab",
    "Parquet": "columns.compare_parquet",
    "Feather": "columns.compare_feather",
    "workbook": "columns.compare_workbook",
    "archive": "archive.compare",
    "compressed": "archive.compare_packed",
    "database": "database.compare",
    "pickle": "pickled.compare",
    "R values": "rds.compare",
    "FITS": "sciences.compare_fits",
    "DICOM": "sciences.compare_dicom",
    "NIfTI": "sciences.compare_nifti",
    "bytes": "binary.compare",
}
# What is not compared of a kind; said where nothing else differs.
_PASSED_OVER = {
    "values": "white space, comments, the order of keys",
    "lines of values": "white space, the order of keys",
    "markup": "white space, comments, the order of attributes",
    "drawing": "white space, comments, the order of attributes, names made up anew",
    "picture": "how it is packed, and what is written beside the pixels",
    "archive": "dates, owners, the order of members, how it is packed",
    "database": "how its pages are laid out",
    "pickle": "how it is packed, the protocol",
    "workbook": "how it is packed, dates, what is not a cell",
}
_MAGIC: tuple[tuple[bytes, str], ...] = (
    (b"\x89PNG\r\n\x1a\n", "picture"),
    (b"\xff\xd8\xff", "picture"),
    (b"GIF8", "picture"),
    (b"II*\0", "picture"),
    (b"MM\0*", "picture"),
    (b"BM", "picture"),
    (b"%PDF-", "PDF"),
    (b"\x93NUMPY", "array"),
    (b"\x89HDF\r\n\x1a\n", "HDF5"),
    (b"CDF\x01", "netCDF"),
    (b"CDF\x02", "netCDF"),
    (b"MATLAB 5.0", "MATLAB"),
    (b"MATLAB 7.3", "HDF5"),
    (b"PAR1", "Parquet"),
    (b"ARROW1", "Feather"),
    (b"SQLite format 3\0", "database"),
    *((head, "R values") for head in _R_HEADS),
)


def kind_of(path: Path, name: str = "", reading: Reading = FOUND) -> str:
    """What a file is compared as.

    Args:
        name: what it is called, where that is not its path's.
        reading: what is declared of it.
    """
    if reading.kind:
        return reading.kind
    name = (name or path.name).lower()
    with path.open("rb") as stream:
        head = stream.read(_HEAD)
    for magic, kind in _MAGIC:
        if head.startswith(magic):
            return kind if kind != "picture" or not head.startswith(b"BM") or name.endswith(".bmp") else "bytes"
    from lapidar.core.results.kinds import sciences

    if science := sciences.science_of(head):
        return science
    if head[:4] == b"RIFF" and head[8:12] == b"WEBP":
        return "picture"
    if head.startswith(HEADS):
        return "archive" if name.endswith(_PACKED_ARCHIVES) else _of_packed(path)
    if head.startswith(b"PK\x03\x04"):
        return _of_zip(path)
    if head[257:262] == b"ustar":
        return "archive"
    if len(head) > 2 and head[0] == 0x80 and 2 <= head[1] <= 5:
        return "pickle"
    if name.endswith(_PICKLES):
        return "pickle"  # of the oldest protocol, which is text
    return _of_text(head, name, reading)


def _of_packed(path: Path) -> str:
    try:
        with unpacked(path) as stream:
            head = stream.read(8)
    except BROKEN:
        return "compressed"
    return "R values" if head.startswith(_R_HEADS) else "compressed"


def _of_zip(path: Path) -> str:
    import zipfile

    try:
        with zipfile.ZipFile(path) as members:
            names = members.namelist()
    except (zipfile.BadZipFile, OSError, ValueError):
        return "archive"
    if any(name.startswith("xl/") for name in names):
        return "workbook"
    return "array" if names and all(name.endswith(".npy") for name in names) else "archive"


def _of_text(head: bytes, name: str, reading: Reading) -> str:
    from lapidar.core.results.kinds import markup, table, text, values

    encoding = reading.encoding or encoding_of(head)
    try:
        # The last character may be cut.
        told = codecs.getincrementaldecoder(encoding)().decode(head, len(head) < _HEAD)
    except UnicodeError:
        return "bytes"
    if "\0" in told or not told:
        return "text" if not told else "bytes"
    start = told.lstrip()[:400].lower()
    if start.startswith(("<?xml", "<svg", "<!doctype", "<html")) or (start.startswith("<") and name.endswith(_XML)):
        return "drawing" if "<svg" in told[: markup.HEAD].lower() and "<html" not in start else "markup"
    if start.startswith(("{", "[")):
        return _of_json(told, name)
    if any(name.endswith(suffix) for suffix in values.readers()):
        return "values"
    lines = told.splitlines()[: -1 if len(head) == _HEAD else None]
    is_named = name.endswith(_TABLES)
    # Columns that hold from line to line make a table, whatever is in them.
    if reading.delimiter or table.delimiter_of(lines[:50], prose=not is_named):
        return "table"
    return "log" if text.is_log(lines[:40]) else "text"


def _of_json(told: str, name: str) -> str:
    if name.endswith(".ipynb"):
        return "notebook"
    if name.endswith((".toml", ".ini", ".cfg", ".yaml", ".yml")):
        return "values"
    lines = [line for line in told.splitlines()[:3] if line.strip()]
    if len(lines) > 1 and all(_is_json(line) for line in lines[:2]):
        return "lines of values"
    return "values" if name.endswith((".json", ".geojson")) or (len(told) < _HEAD - 4 and _is_json(told)) else "text"


def _is_json(line: str) -> bool:
    try:
        json.loads(line)
    except (ValueError, RecursionError):
        return False
    return True


def compared_by(kind: str) -> Callable[[Pair, Rules], Found]:
    """The function that compares files of a kind."""
    module, _, function = _COMPARE[kind].partition(".")
    return cast("Callable[[Pair, Rules], Found]", getattr(import_module(f"{__name__}.{module}"), function))


def compare_contents(pair: Pair, rules: Rules) -> tuple[str, Found]:
    """Compare two files whose bytes differ, as what they are.

    Returns:
        The kind, and what was found.

    Raises:
        Unreadable: one of them is not what it says, beyond a limit, or of a kind that nothing here reads.
    """
    kinds = kind_of(pair.before, pair.path, rules.reading), kind_of(pair.after, pair.path, rules.reading)
    if kinds[0] != kinds[1]:
        if set(kinds) <= {"text", "table", "log", "values"}:
            return "text", compared_by("text")(pair, rules)
        line = f"it was {kinds[0]}, and is {kinds[1]}"
        return kinds[0], Found(Verdict.DIFFERENT, line, [line])
    try:
        found = compared_by(kinds[0])(pair, rules)
        if found.verdict is Verdict.SAME and not (found.set_aside or found.taken):
            found.set_aside.append(_PASSED_OVER.get(kinds[0], "how it is packed"))
        return kinds[0], found
    except OSError as error:
        raise Unreadable(error.strerror or str(error)) from error
    except (Unreadable, KeyboardInterrupt):
        raise
    except MemoryError as error:
        raise BeyondLimit("it takes more memory than there is") from error
    except Exception as error:  # whatever a file makes of a reader that did not expect it
        raise Unreadable(f"its reader fails ({type(error).__name__}: {str(error)[:150]})") from error
