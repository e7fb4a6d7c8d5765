"""Arrays: .npy and .npz (the form of numpy's own files), HDF5 and netCDF-4, netCDF-3, MATLAB's files, with their
attributes. Nothing that is code in them is ever loaded (no pickled objects)."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from lapidar.core.results.differences import Differences
from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import BeyondLimit, Found, Pair, Unreadable

__all__ = ["both", "compare", "compare_arrays", "compare_hdf5", "compare_matlab", "compare_netcdf"]

_MOST_BYTES = 400_000_000  # of the two arrays that are in memory at once
_PIECE = 20_000_000  # elements


def _numpy() -> Any:
    try:
        import numpy
    except ImportError as error:
        raise Unreadable("install lapidar[compare] to read arrays") from error
    return numpy


def compare(pair: Pair, rules: Rules) -> Found:
    """Compare two .npy or .npz files; a .npy may be larger than memory."""
    numpy = _numpy()
    differences = Differences(rules)
    try:
        before = numpy.load(pair.before, mmap_mode="r", allow_pickle=False)
        after = numpy.load(pair.after, mmap_mode="r", allow_pickle=False)
        if isinstance(before, numpy.ndarray) and isinstance(after, numpy.ndarray):
            compare_arrays("", before, after, differences)
        elif isinstance(before, numpy.ndarray) or isinstance(after, numpy.ndarray):
            differences.say("one is an array, the other holds several")
        else:
            for name in both(before.files, after.files, differences):
                _within_limits(before.zip.getinfo(f"{name}.npy").file_size, after.zip.getinfo(f"{name}.npy").file_size)
                compare_arrays(name, before[name], after[name], differences)
    except (ValueError, OSError, EOFError, KeyError, MemoryError) as error:
        raise Unreadable(str(error).splitlines()[0][:200] if str(error) else "it is cut short") from error
    return differences.found()


def _within_limits(*sizes: int) -> None:
    if sum(sizes) > _MOST_BYTES:
        raise BeyondLimit(f"two arrays of together {sum(sizes):,} bytes do not fit the limit of {_MOST_BYTES:,}")


def both(before: Any, after: Any, into: Differences) -> Iterator[str]:
    """The names that both have and that count; the others are told."""
    into.meet((*before, *after))
    for name in sorted(set(before) ^ set(after)):
        into.say(f"{name}: {'gone' if name in before else 'new'}")
    for name in sorted(set(before) & set(after)):
        if into.rules.ignores(name):
            into.set_aside[name] = None
        else:
            yield name


def compare_arrays(name: str, before: Any, after: Any, into: Differences) -> None:
    """Compare two arrays: type, shape, values; structured ones by their fields."""
    numpy = _numpy()
    called = name or "the array"
    if before.shape != after.shape:
        into.say(f"{called}: shape {_shape(before)} -> {_shape(after)}")
        return
    if before.dtype != after.dtype and before.dtype.newbyteorder("=") != after.dtype.newbyteorder("="):
        into.say(f"{called}: type {before.dtype} -> {after.dtype}")
    if before.dtype.names or after.dtype.names:
        for field in both(before.dtype.names or (), after.dtype.names or (), into):
            compare_arrays(f"{name}.{field}" if name else field, before[field], after[field], into)
        return
    if before.dtype.kind in "biufc" and after.dtype.kind in "biufc":
        count = into.numbers.differing
        for start, one, other in _pieces(before, after):
            into.numbers.arrays(numpy.asarray(one), numpy.asarray(other), f"{called}{start}", into.rules.of(name))
        if into.numbers.differing > count:
            into.tell(f"{called}: {into.numbers.differing - count:,} of {before.size:,} values differ")
        return
    if before.dtype.kind == "O" or after.dtype.kind == "O":
        one, other = map(_plain, (before, after))
        if one != other:
            into.say(f"{called}: the objects differ")
        return
    different = numpy.atleast_1d(numpy.asarray(before) != numpy.asarray(after))
    if different.any():
        place = tuple(numpy.argwhere(different)[0].tolist())
        into.other(f"{called}{list(place)}", str(numpy.atleast_1d(before)[place]), str(numpy.atleast_1d(after)[place]))


def _plain(array: Any) -> list[str]:
    return [repr(value) for value in array.ravel().tolist()]


def _shape(array: Any) -> str:
    return " x ".join(map(str, array.shape)) or "a single value"


def _pieces(before: Any, after: Any) -> Iterator[tuple[str, Any, Any]]:
    """Large arrays in pieces of their first dimension."""
    if before.size <= _PIECE or before.ndim == 0:
        yield "", before, after
        return
    rows = max(1, _PIECE // max(1, before.size // before.shape[0]))
    for start in range(0, before.shape[0], rows):
        yield f" from {start} on ", before[start : start + rows], after[start : start + rows]


# ---- files of other forms, by the libraries that know them


def compare_hdf5(pair: Pair, rules: Rules) -> Found:
    """Compare two HDF5 files (netCDF-4 among them): groups, data, attributes. No link out of the file is followed."""
    try:
        import h5py
    except ImportError as error:
        raise Unreadable("install lapidar[compare] to read HDF5") from error
    differences = Differences(rules)
    try:
        with h5py.File(pair.before, "r") as before, h5py.File(pair.after, "r") as after:
            _groups(h5py, "", before, after, differences, 0)
    except (OSError, RuntimeError, KeyError, ValueError) as error:
        raise Unreadable(str(error).splitlines()[0][:200]) from error
    return differences.found()


def _groups(h5py: Any, place: str, before: Any, after: Any, into: Differences, depth: int) -> None:
    if depth > 200:
        raise BeyondLimit("its groups are nested deeper than 200")
    _attributes(place, before.attrs, after.attrs, into)
    for name in both(before.keys(), after.keys(), into):
        below = f"{place}/{name}" if place else name
        links = before.get(name, getlink=True), after.get(name, getlink=True)
        if any(isinstance(link, h5py.ExternalLink | h5py.SoftLink) for link in links):
            if _told(links[0]) != _told(links[1]):
                into.say(f"{below}: the link leads elsewhere")
            continue
        one, other = before[name], after[name]
        if isinstance(one, h5py.Group) and isinstance(other, h5py.Group):
            _groups(h5py, below, one, other, into, depth + 1)
        elif isinstance(one, h5py.Dataset) and isinstance(other, h5py.Dataset):
            _attributes(below, one.attrs, other.attrs, into)
            _datasets(h5py, below, one, other, into)
        else:
            into.say(f"{below}: a group and data")


def _told(link: Any) -> tuple[str, Any, Any]:
    return type(link).__name__, getattr(link, "filename", None), getattr(link, "path", None)


def _type_of(h5py: Any, kind: Any) -> str:
    """A type with what the array library does not know of it: what the values of an enumeration are called, what a
    reference leads to, how long a text may be."""
    if names := h5py.check_enum_dtype(kind):
        return f"enumeration of {dict(sorted(names.items()))}"
    if text := h5py.check_string_dtype(kind):
        return f"text ({text.encoding})"
    reference = h5py.check_ref_dtype(kind)
    return reference.__name__ if reference else str(kind.newbyteorder("="))


def _references(h5py: Any, place: str, one: Any, other: Any, into: Differences) -> None:
    """References, by where they lead."""
    numpy = _numpy()
    ones, others = (numpy.atleast_1d(side[()]).ravel() for side in (one, other))
    for at, (before, after) in enumerate(zip(ones, others, strict=True)):
        told = [_leads_to(h5py, file, reference) for file, reference in ((one.file, before), (other.file, after))]
        if told[0] != told[1]:
            into.other(f"{place}[{at}]", told[0], told[1])


def _leads_to(h5py: Any, file: Any, reference: Any) -> str:
    if not reference:
        return "nothing"
    name = str(file[reference].name)
    if not isinstance(reference, h5py.RegionReference):
        return name
    region = h5py.h5r.get_region(reference, file.id)
    return f"{name} {region.get_select_bounds()}, {region.get_select_npoints()} values"


def _datasets(h5py: Any, place: str, one: Any, other: Any, into: Differences) -> None:
    kinds = [_type_of(h5py, side.dtype) for side in (one, other)]
    if kinds[0] != kinds[1]:
        into.other(f"{place} type", kinds[0], kinds[1])
    if one.shape != other.shape or one.shape is None:
        if one.shape != other.shape:
            into.say(f"{place}: shape {one.shape} -> {other.shape}")
        return
    if h5py.check_ref_dtype(one.dtype) and h5py.check_ref_dtype(other.dtype):
        _references(h5py, place, one, other, into)
        return
    numpy = _numpy()
    if one.ndim == 0 or one.size == 0:
        compare_arrays(place, numpy.asarray(one[()]), numpy.asarray(other[()]), into)
        return
    rows = max(1, _PIECE // max(1, one.size // one.shape[0]))
    for start in range(0, one.shape[0], rows):
        where = place if one.shape[0] <= rows else f"{place} from {start} on"
        compare_arrays(where, one[start : start + rows], other[start : start + rows], into)


def _attributes(place: str, before: Any, after: Any, into: Differences) -> None:
    numpy = _numpy()
    for name in sorted(set(before) ^ set(after)):
        into.say(f"{place}@{name}: {'gone' if name in before else 'new'}")
    for name in sorted(set(before) & set(after)):
        one, other = before[name], after[name]
        if name in ("DIMENSION_LIST", "REFERENCE_LIST", "CLASS", "NAME", "_Netcdf4Dimid"):
            continue  # references inside the file
        if isinstance(one, str) and isinstance(other, str):
            into.line(f"{place}@{name}", f"{place}@{name}", one, other)
        else:
            compare_arrays(f"{place}@{name}", numpy.asarray(one), numpy.asarray(other), into)


def compare_netcdf(pair: Pair, rules: Rules) -> Found:
    """Compare two netCDF-3 files."""
    try:
        from scipy.io import netcdf_file
    except ImportError as error:
        raise Unreadable("install lapidar[compare] to read netCDF") from error
    numpy = _numpy()
    differences = Differences(rules)
    try:
        with netcdf_file(pair.before, mmap=False) as before, netcdf_file(pair.after, mmap=False) as after:
            _plain_attributes("", before._attributes, after._attributes, differences)
            for name in both(before.variables, after.variables, differences):
                one, other = before.variables[name], after.variables[name]
                _plain_attributes(name, one._attributes, other._attributes, differences)
                compare_arrays(name, numpy.asarray(one.data), numpy.asarray(other.data), differences)
    except (ValueError, TypeError, OSError, IndexError, KeyError, AssertionError, OverflowError) as error:
        raise Unreadable(str(error).splitlines()[0][:200] if str(error) else "it is cut short") from error
    return differences.found()


def _plain_attributes(place: str, before: Any, after: Any, into: Differences) -> None:
    for name in sorted(set(before) | set(after)):
        one, other = before.get(name), after.get(name)
        if repr(one) != repr(other):
            into.other(f"{place}@{name}", repr(one), repr(other))


def compare_matlab(pair: Pair, rules: Rules) -> Found:
    """Compare two MATLAB files of version 5 to 7; what they say of when and where they were written is set aside."""
    try:
        from scipy.io import loadmat, whosmat
    except ImportError as error:
        raise Unreadable("install lapidar[compare] to read MATLAB files") from error
    differences = Differences(rules)
    try:
        before, after = loadmat(pair.before), loadmat(pair.after)
        classes = [{name: kind for name, _, kind in whosmat(path)} for path in (pair.before, pair.after)]
    except Exception as error:  # whatever a damaged file makes of the reader
        raise Unreadable(str(error).splitlines()[0][:200] if str(error) else type(error).__name__) from error
    names = [{name for name in told if not name.startswith("__")} for told in (before, after)]
    for name in both(names[0], names[1], differences):
        one, other = before[name], after[name]
        if classes[0][name] != classes[1][name]:
            differences.other(f"{name} class", classes[0][name], classes[1][name])
        if hasattr(one, "tocsr") and hasattr(other, "tocsr"):
            one, other = one.tocoo(), other.tocoo()
            for part in ("row", "col", "data"):
                compare_arrays(f"{name}.{part}", getattr(one, part), getattr(other, part), differences)
        else:
            compare_arrays(name, one, other, differences)
    return differences.found()
