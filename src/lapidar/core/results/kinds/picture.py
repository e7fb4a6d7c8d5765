"""Pictures, sample by sample: how many pixels differ, by how much, and in which box; and what says how they are to be
shown: transparency, gamma, colour profile, orientation, how long a frame stands, the place on a map. What else is
written beside the pixels (dates, programs, the way they are packed) does not count."""

from __future__ import annotations

import math
import tempfile
import warnings
from collections.abc import Callable, Iterator, Mapping
from contextlib import ExitStack
from pathlib import Path
from typing import IO, Any

from lapidar.core.results.differences import Differences
from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import BeyondLimit, Found, Pair, Unreadable

__all__ = ["MOST_PIXELS", "compare", "opened"]

MOST_PIXELS = 100_000_000
_MOST_FRAMES = 500
_STRIP = 256  # rows
_LARGE = 20_000_000  # pixels, from which on no two pictures are held at once
_LIBRARY = "install lapidar[compare] to read pictures"
# What of a picture's facts says how it is to be shown, by the names that the reader gives them.
_SHOWN_BY = ("transparency", "gamma", "chromaticity", "srgb", "duration", "loop", "disposal", "blend")
_ORIENTATION = 0x0112  # of Exif
# GeoTIFF 1.1: the scale, the tie points, the transformation, the keys; and what stands for no value.
_ON_A_MAP = {33550: "scale", 33922: "tie points", 34264: "transformation", 34735: "keys", 34736: "parameters",
             34737: "names", 42113: "no data"}  # fmt: skip


def compare(pair: Pair, rules: Rules) -> Found:
    """Compare two pictures, all frames of them."""
    differences = Differences(rules)
    with opened(pair.before) as before, opened(pair.after) as after:
        if before.size != after.size:
            differences.say(f"{before.width} x {before.height} pixels -> {after.width} x {after.height}")
            return differences.found()
        frames = getattr(before, "n_frames", 1), getattr(after, "n_frames", 1)
        if frames[0] != frames[1]:
            differences.say(f"{frames[0]} frames -> {frames[1]}")
        if min(frames) > _MOST_FRAMES:
            raise BeyondLimit(f"it has more than {_MOST_FRAMES} frames")
        for frame in range(min(frames)):
            _frame(frame, frames[0] > 1, before, after, differences)
    found = differences.found()
    # Of pixels it matters how many and where; what a unit in the last place is, nobody can see.
    found.numbers, found.worst = None, differences.first
    return found


def opened(path: Path) -> Any:
    """A picture, not decoded yet.

    Raises:
        Unreadable: it is none, or has too many pixels.
    """
    try:
        from PIL import Image
    except ImportError as error:
        raise Unreadable(_LIBRARY) from error
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            Image.MAX_IMAGE_PIXELS = None  # there is a limit of our own
            picture = Image.open(path)
    except Exception as error:  # whatever a damaged file makes of the reader
        sizes = _of_tiff(path)
        if sizes is None:
            raise Unreadable(str(error)[:200] or type(error).__name__) from error
        picture = sizes
    if picture.width * picture.height > MOST_PIXELS:
        many = f"{picture.width * picture.height:,} pixels"
        raise BeyondLimit(f"it has {many}, and more than {MOST_PIXELS:,} are refused")
    return picture


# ---- samples that the usual reader would cut to eight bits, or cannot read


class _Tiff:
    """A TIFF of more channels, or of other samples, than pictures for the eye have."""

    def __init__(self, path: Path, samples: Callable[[], Any], size: tuple[int, int]) -> None:
        self.filename, self.samples, self.size = str(path), samples, size
        self.width, self.height = size
        self.mode, self.format = "samples", "TIFF"
        self.info: dict[str, Any] = {}

    def __enter__(self) -> _Tiff:
        return self

    def __exit__(self, *_: object) -> None:
        pass

    def getexif(self) -> dict[int, Any]:
        return {}


def _of_tiff(path: Path) -> _Tiff | None:
    try:
        import tifffile

        with tifffile.TiffFile(path) as file:
            page = file.pages[0]
            size = int(page.imagewidth), int(page.imagelength)
    except Exception:  # no library for it, or no such file
        return None
    return _Tiff(path, lambda: tifffile.imread(path), size)


def _samples(picture: Any, mode: str) -> Any:
    """The samples of a picture as an array of rows, columns and channels, each in its own type."""
    import numpy

    if isinstance(picture, _Tiff):
        return picture.samples()
    if _is_deep_png(picture):
        return _of_deep_png(picture)
    return numpy.asarray(picture if picture.mode == mode else picture.convert(mode))


def _is_deep_png(picture: Any) -> bool:
    """Whether it is a PNG of 16 bits a sample in colour or with transparency, whose low byte would be lost."""
    if picture.format != "PNG":
        return False
    with open(picture.filename, "rb") as stream:
        head = stream.read(26)
    return head[24] == 16 and head[25] != 0


def _of_deep_png(picture: Any) -> Any:
    import numpy

    try:
        import png
    except ImportError as error:
        raise Unreadable(_LIBRARY) from error
    width, height, rows, facts = png.Reader(filename=picture.filename).read()
    samples = numpy.vstack([numpy.asarray(row, dtype=numpy.uint16) for row in rows])
    return samples.reshape(height, width, facts["planes"])


# ---- large pictures


class _Bands:
    """A decoded picture, whose samples are taken out by rows."""

    def __init__(self, picture: Any, mode: str) -> None:
        picture.load()
        self.picture, self.mode = picture, mode
        first = self[:1]
        self.dtype, self.shape = first.dtype, (picture.height, *first.shape[1:])

    def __getitem__(self, rows: slice) -> Any:
        import numpy

        top, end, _ = rows.indices(self.picture.height)
        band = self.picture.crop((0, top, self.picture.width, end))
        return numpy.asarray(band if band.mode == self.mode else band.convert(self.mode))


def _is_large(picture: Any) -> bool:
    is_plain = not isinstance(picture, _Tiff) and not _is_deep_png(picture)
    return is_plain and picture.width * picture.height > _LARGE


class _Kept:
    """The samples of a picture, in a file that nobody else sees, as `_Bands` has them."""

    def __init__(self, bands: _Bands, file: IO[bytes]) -> None:
        self.dtype, self.shape, self._file = bands.dtype, bands.shape, file
        for top in range(0, self.shape[0], _STRIP):
            self._file.write(bands[top : top + _STRIP])

    def __getitem__(self, rows: slice) -> Any:
        import numpy

        top, end, _ = rows.indices(self.shape[0])
        row = math.prod(self.shape[1:])
        self._file.seek(top * row * self.dtype.itemsize)
        data = self._file.read((end - top) * row * self.dtype.itemsize)
        return numpy.frombuffer(data, self.dtype).reshape(end - top, *self.shape[1:])


# ---- a frame


def _frame(number: int, several: bool, before: Any, after: Any, into: Differences) -> None:
    with ExitStack() as files:
        _compared(number, several, (before, after), files, into)


def _compared(number: int, several: bool, pair: tuple[Any, Any], files: ExitStack, into: Differences) -> None:
    before, after = pair
    where = f"frame {number}: " if several else ""
    try:
        if several:
            before.seek(number)
            after.seek(number)
        # Both in the form that keeps all of either.
        mode = before.mode if before.mode == after.mode and before.mode not in ("P", "PA") else "RGBA"
        if _is_large(before) and _is_large(after) and not several:
            file = files.enter_context(tempfile.TemporaryFile(prefix="lapidar-picture-"))  # noqa: SIM115  (the stack is one)
            bands = _Bands(before, mode)
            told = dict(_told(before))  # some readers know more of a picture that is decoded
            one = _Kept(bands, file)
            before.close()  # its pixels are let go before the other's are decoded
            other = _Bands(after, mode)
        else:
            one, other = _samples(before, mode), _samples(after, mode)
            told = dict(_told(before))
        _facts(where, told, dict(_told(after)), into)
    except Unreadable:
        raise
    except Exception as error:
        raise Unreadable(str(error)[:200] or type(error).__name__) from error
    wide = before.mode != after.mode and {before.mode, after.mode} & {"I", "F", "I;16", "samples"}
    if wide or one.dtype != other.dtype or one.shape != other.shape:
        into.say(f"{where}samples of another type: {before.mode} {one.dtype} -> {after.mode} {other.dtype}")
        return
    _pixels(where, one, other, into)


def _facts(where: str, ones: Mapping[str, Any], others: Mapping[str, Any], into: Differences) -> None:
    """What says how the pixels are to be shown."""
    for name in dict.fromkeys((*ones, *others)):
        one, other = ones.get(name), others.get(name)
        if one != other:
            into.other(f"{where}{name}", "none" if one is None else one, "none" if other is None else other)


def _told(picture: Any) -> Iterator[tuple[str, Any]]:
    for name in _SHOWN_BY:
        # The transparent colour of a palette, and of grey, is in the pixels that both are turned into.
        if picture.info.get(name) is not None and not (name == "transparency" and picture.mode == "P"):
            yield name, picture.info[name]
    if profile := picture.info.get("icc_profile"):
        yield "colour profile", profile[:24] + profile[36:84] + profile[100:]  # but for its date and identity (ICC.1)
    orientation = picture.getexif().get(_ORIENTATION)
    if orientation not in (None, 1):
        yield "orientation", orientation
    for number, name in _ON_A_MAP.items():
        value = getattr(picture, "tag_v2", {}).get(number)
        if value is not None:
            yield f"place on the map, {name}", value


def _pixels(where: str, one: Any, other: Any, into: Differences) -> None:
    """Compare pixels, in strips of rows: a large picture as numbers of eight bytes would not fit."""
    import numpy

    tolerance = into.rules.of("pixel")
    total, beyond, most = 0, 0, 0.0
    box = [one.shape[0], one.shape[1], -1, -1]  # first row and column, last row and column
    for top in range(0, one.shape[0], _STRIP):
        before, after = one[top : top + _STRIP], other[top : top + _STRIP]
        if before.tobytes() == after.tobytes():
            continue
        different = before != after
        if before.dtype.kind == "f":
            different &= ~((before != before) & (after != after))  # NaN is NaN
        if different.ndim == 3:
            different = different.any(axis=2)
        if not different.any():
            continue
        with numpy.errstate(all="ignore"):
            apart = numpy.abs(before[different].astype(numpy.float64) - after[different].astype(numpy.float64))
        apart = numpy.nan_to_num(apart, nan=numpy.inf)
        apart = apart.max(axis=1) if apart.ndim == 2 else apart
        rows, columns = numpy.nonzero(different)
        total += len(rows)
        beyond += int((apart > tolerance.absolute).sum())
        most = max(most, float(apart.max()))
        box = [
            *map(min, box[:2], (int(rows.min()) + top, int(columns.min()))),
            *map(max, box[2:], (int(rows.max()) + top, int(columns.max()))),
        ]
    pixels = one.shape[0] * one.shape[1]
    into.numbers.compared += pixels
    if not total:
        return
    line = (
        f"{where}{total:,} of {pixels:,} pixels differ ({100 * total / pixels:.2g} %), by at most {most:g}, "
        f"in the box ({box[1]}, {box[0]}) to ({box[3]}, {box[2]})"
    )
    into.first = into.first or line
    into.numbers.differing += total
    into.numbers.beyond += beyond
    into.tell(line)
