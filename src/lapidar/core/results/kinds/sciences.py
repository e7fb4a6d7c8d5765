"""Files of single sciences, by their fields' own libraries (`lapidar[sciences]`): FITS of astronomy (IAU FITS Working
Group, 4.0), DICOM and NIfTI of medicine. What says when and by what a file was written is set aside."""

from __future__ import annotations

import io
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from lapidar.core.results.differences import Differences, numbered
from lapidar.core.results.kinds.array import both, compare_arrays
from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import BeyondLimit, Found, Pair, Unreadable

__all__ = ["compare_dicom", "compare_fits", "compare_nifti", "science_of"]

_MOST_DEEP = 50
_OF_WRITING = frozenset(("DATE", "CHECKSUM", "DATASUM"))  # cards: when a unit was written, and sums of its bytes
_WRITERS = frozenset(("ImplementationClassUID", "ImplementationVersionName", "FileMetaInformationGroupLength"))
_NIFTI = {
    b"\x5c\x01": (344, b"n+1\0"),
    b"\x01\x5c": (344, b"n+1\0"),
    b"\x1c\x02": (4, b"n+2\0"),
    b"\x02\x1c": (4, b"n+2\0"),
}


def science_of(head: bytes) -> str:
    """The kind of a file of a science, by its first bytes; "" where it is none."""
    if head.startswith(b"SIMPLE  ="):
        return "FITS"
    if head[128:132] == b"DICM":
        return "DICOM"
    at, magic = _NIFTI.get(head[:4].strip(b"\0"), (0, b"\0none"))
    return "NIfTI" if head[at : at + 4] == magic else ""


@contextmanager
def _read_by(what: str) -> Iterator[None]:
    """Reads with a library: it may not be there, warn, or fail in any way on a file that is damaged."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        warnings.filterwarnings("error", message=".*truncated")
        try:
            yield
        except ImportError as error:
            raise Unreadable(f"install lapidar[sciences] to read {what}") from error
        except (Unreadable, BeyondLimit, MemoryError):
            raise
        except Exception as error:  # whatever a damaged file makes of the reader
            raise Unreadable((str(error) or type(error).__name__).splitlines()[0][:200]) from error


def compare_fits(pair: Pair, rules: Rules) -> Found:
    """Compare two FITS files, unit by unit: the cards of its header, then its image or table."""
    into = Differences(rules)
    with _read_by("FITS"):
        from astropy.io import fits

        with fits.open(pair.before) as before, fits.open(pair.after) as after:
            ones, others = _units(before), _units(after)
            for name in both(ones, others, into):
                _cards(name, ones[name].header, others[name].header, into)
                _unit_data(name, ones[name].data, others[name].data, into)
    return into.found()


def _units(file: Any) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for unit in file:
        found[numbered(unit.name or "unit", found)] = unit
    return found


def _cards(unit: str, before: Any, after: Any, into: Differences) -> None:
    """Cards by their names; those that stand there more than once in their order."""
    ones, others = ({f"{unit}@{name}": value for name, value in _named_cards(header)} for header in (before, after))
    for place in both(ones, others, into):
        one, other = ones[place], others[place]
        if place.partition("@")[2] in _OF_WRITING:
            if one != other:
                into.set_aside["when its units were written, and their sums"] = None
        else:
            into.value(place, place, one[0], other[0])
            if one[1] != other[1]:
                into.other(f"{place} (comment)", one[1], other[1])


def _named_cards(header: Any) -> Iterator[tuple[str, tuple[Any, str]]]:
    taken: dict[str, None] = {}
    for card in header.cards:
        name = numbered(card.keyword or "blank", taken)
        taken[name] = None
        value = card.value if isinstance(card.value, (bool, int, float, str)) else str(card.value)
        yield name, (value, card.comment)


def _unit_data(name: str, before: Any, after: Any, into: Differences) -> None:
    if before is None or after is None:
        if before is not after:
            into.say(f"{name}: it has {'data' if before is None else 'no data'} now")
        return
    if before.dtype.names and after.dtype.names:
        for column in both(before.dtype.names, after.dtype.names, into):
            _compare_column(f"{name}.{column}", before[column], after[column], into)
    else:
        compare_arrays(name, before, after, into)


def _compare_column(place: str, before: Any, after: Any, into: Differences) -> None:
    """A column of a table; one whose cells are arrays of any length is compared cell by cell."""
    if before.dtype.kind != "O" or after.dtype.kind != "O" or before.shape != after.shape:
        compare_arrays(place, before, after, into)
        return
    for row, (one, other) in enumerate(zip(before, after, strict=True)):
        compare_arrays(f"{place}[{row}]", one, other, into)


def compare_nifti(pair: Pair, rules: Rules) -> Found:
    """Compare two NIfTI files: header, extensions, and the image as its samples are stored."""
    into = Differences(rules)
    with _read_by("NIfTI"):
        before, after = _nifti(pair.before), _nifti(pair.after)
        if type(before) is not type(after):
            into.say(f"it was {type(before).__name__}, and is {type(after).__name__}")
            return into.found()
        ones, others = (_header(side, path) for side, path in ((before, pair.before), (after, pair.after)))
        for name in both(ones.dtype.names, others.dtype.names, into):
            compare_arrays(f"header.{name}", ones[name], others[name], into)
        told = [[(one.get_code(), one.get_content()) for one in side.header.extensions] for side in (before, after)]
        if told[0] != told[1]:
            into.say("its extensions differ")
        compare_arrays("image", before.dataobj.get_unscaled(), after.dataobj.get_unscaled(), into)
    return into.found()


def _nifti(path: Path) -> Any:
    import nibabel

    with path.open("rb") as data:
        kind = nibabel.Nifti2Image if data.read(8)[4:] == b"n+2\0" else nibabel.Nifti1Image
    holders = kind.make_file_map({"header": str(path), "image": str(path)})
    return kind.from_file_map(holders)


def _header(picture: Any, path: Path) -> Any:
    """The fields as they are written; of the picture's own some are left out where they were applied."""
    with path.open("rb") as data:
        return picture.header_class.from_fileobj(data, check=False).structarr


def compare_dicom(pair: Pair, rules: Rules) -> Found:
    """Compare two DICOM files, element by element, those in sequences too."""
    into = Differences(rules)
    with _read_by("DICOM"):
        import pydicom

        before, after = (pydicom.dcmread(io.BytesIO(path.read_bytes())) for path in (pair.before, pair.after))
        for name in both(_elements(before.file_meta), _elements(after.file_meta), into):
            ones, others = _elements(before.file_meta)[name], _elements(after.file_meta)[name]
            if name in _WRITERS:
                into.set_aside["which program wrote it"] = None
            else:
                _element(name, ones, others, into, 0)
        _datasets("", before, after, into, 0)
    return into.found()


def _elements(dataset: Any) -> dict[str, Any]:
    return {element.keyword or str(element.tag): element for element in dataset}


def _datasets(place: str, before: Any, after: Any, into: Differences, depth: int) -> None:
    if depth > _MOST_DEEP:
        raise BeyondLimit(f"its sequences are nested deeper than {_MOST_DEEP}")
    ones, others = _elements(before), _elements(after)
    for name in both(ones, others, into):
        _element(f"{place}{name}", ones[name], others[name], into, depth)


def _element(place: str, before: Any, after: Any, into: Differences, depth: int) -> None:
    if before.VR != after.VR:
        into.other(f"{place} type", before.VR, after.VR)
        return
    one, other = before.value, after.value
    if before.VR == "SQ":
        if len(one) != len(other):
            into.say(f"{place}: {len(one)} items -> {len(other)}")
        for at, (first, second) in enumerate(zip(one, other, strict=False)):
            _datasets(f"{place}[{at}].", first, second, into, depth + 1)
    elif isinstance(one, bytes) and isinstance(other, bytes):
        if one != other:
            _samples(place, before, one, other, into)
    elif before.VM > 1 and before.VM == after.VM:
        for at, (first, second) in enumerate(zip(one, other, strict=True)):
            _value(f"{place}[{at}]", first, second, into)
    else:
        _value(place, one, other, into)


def _value(place: str, one: Any, other: Any, into: Differences) -> None:
    plain = [value if isinstance(value, (int, float)) else str(value) for value in (one, other)]
    if plain[0] != plain[1] or type(one) is not type(other):
        into.value(place, place, *plain)
    else:
        into.numbers.compared += 1


def _samples(place: str, element: Any, one: bytes, other: bytes, into: Differences) -> None:
    """Bytes that are words, as pictures and curves are, are told by their values."""
    import numpy

    size = {"OW": 2, "OL": 4, "OF": 4, "OD": 8}.get(element.VR, 1)
    kind = {"OF": "<f4", "OD": "<f8"}.get(element.VR, f"<u{size}")
    if len(one) != len(other) or len(one) % size:
        into.say(f"{place}: {len(one):,} bytes -> {len(other):,}")
    else:
        compare_arrays(place, numpy.frombuffer(one, kind), numpy.frombuffer(other, kind), into)
