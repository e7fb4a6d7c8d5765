"""PDF (ISO 32000), by its objects: streams are unpacked and compared; dates, the program's name and the file's own
identity do not count. No reader is needed for that, and nothing of it is run."""

from __future__ import annotations

import base64
import re
import zlib

from lapidar.core import foreign
from lapidar.core.results.differences import Differences
from lapidar.core.results.kinds import pages
from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import Found, Pair, Unreadable

__all__ = ["compare"]

_OBJECT = re.compile(rb"(?:^|[\r\n ])(\d+) (\d+) obj\b(.*?)\bendobj", re.DOTALL)
_STREAM = re.compile(rb"^(.*?)\bstream\r?\n(.*)\r?\n?endstream", re.DOTALL)
_SET_ASIDE = re.compile(
    rb"/(CreationDate|ModDate|Producer|Creator|PTEX\.\w+)\s*(\((?:\\.|[^()\\]|\([^()]*\))*\)|<[0-9A-Fa-f\s]*>)"
    rb"|/ID\s*\[.*?\]|/(Length|DL)\s+\d+(\s+\d+\s+R)?",
    re.DOTALL,
)
_XMP_DATES = re.compile(rb"<(xmp:(?:CreateDate|ModifyDate|MetadataDate)|xmpMM:\w+ID|pdf:Producer)>.*?</\1>", re.DOTALL)
_PLACES = re.compile(rb"\d{10} \d{5} [nf]|(startxref|/Prev|/XRefStm|/Size)\s+\d+|^\d+ \d+\s*$", re.MULTILINE)
_MOST_BYTES = 400_000_000  # of all streams, unpacked


def compare(pair: Pair, rules: Rules) -> Found:
    """Compare two documents."""
    differences = Differences(rules)
    try:
        before, after = _Document(foreign.read(pair.before, 1 << 30)), _Document(foreign.read(pair.after, 1 << 30))
    except (OSError, ValueError) as error:
        raise Unreadable(str(error)[:200]) from error
    if len(before.objects) != len(after.objects):
        differences.say(f"{len(before.objects):,} objects -> {len(after.objects):,}")
    for number, (one, other) in enumerate(zip(before.objects, after.objects, strict=False), 1):
        if one == other:
            continue
        for part, (first, second) in enumerate(zip(one, other, strict=True)):
            if first != second:
                what = f"object {number}, {'its stream' if part else 'its fields'}"
                _lines(what, first, second, differences)
    if before.rest != after.rest:
        differences.say("what stands between the objects differs")
    differences.set_aside["dates and names of programs"] = None
    if differences.differs:
        pages.tell(pair, differences)
    return differences.found()


class _Document:
    """The objects of a document in the order of the file, each with its fields and its unpacked stream."""

    def __init__(self, data: bytes) -> None:
        if b"/Encrypt" in data[-4096:]:
            raise ValueError("it is encrypted")
        self.left = _MOST_BYTES
        self.objects = [self._object(found[3]) for found in _OBJECT.finditer(data)]
        # Between them are the table of where they are in the file, and what leads to that.
        self.rest = _PLACES.sub(b"", _SET_ASIDE.sub(b"", _OBJECT.sub(b"", data))).split()
        if not self.objects:
            raise ValueError("it has no objects that can be read")

    def _object(self, body: bytes) -> tuple[bytes, bytes]:
        found = _STREAM.match(body)
        fields, stream = (found[1], found[2]) if found else (body, b"")
        # The table of places says where things are in the file.
        if b"/XRef" in fields:
            return b"table of places", b""
        if b"/ASCII85Decode" in fields or b"/A85" in fields:
            try:
                stream = base64.a85decode(stream.strip().removesuffix(b"~>"))
            except ValueError as error:
                raise ValueError(f"a stream is no ASCII85: {error}") from error
        if b"/FlateDecode" in fields or b"/Fl " in fields:
            unpacker = zlib.decompressobj()
            try:
                stream = unpacker.decompress(stream, self.left)
            except zlib.error as error:
                raise ValueError(f"a stream cannot be unpacked: {error}") from error
            self.left -= len(stream)
            if self.left <= 0:
                raise ValueError(f"its streams unpack to more than {_MOST_BYTES:,} bytes")
        if b"/ObjStm" in fields or b"/Metadata" in fields:
            stream = _XMP_DATES.sub(b"", _SET_ASIDE.sub(b"", stream))
        return b" ".join(_SET_ASIDE.sub(b"", fields).split()), stream


def _lines(what: str, before: bytes, after: bytes, into: Differences) -> None:
    if _is_text(before) and _is_text(after):
        ones, others = before.decode("latin-1").splitlines(), after.decode("latin-1").splitlines()
        if len(ones) != len(others):
            into.say(f"{what}: {len(ones):,} lines -> {len(others):,}")
        for number, (one, other) in enumerate(zip(ones, others, strict=False), 1):
            into.line(f"{what}, line {number}", what, one, other)
    else:
        into.say(f"{what}: {len(before):,} bytes -> {len(after):,}, which differ")


def _is_text(data: bytes) -> bool:
    return not data.translate(None, bytes(range(32, 256)) + b"\t\r\n\f")
