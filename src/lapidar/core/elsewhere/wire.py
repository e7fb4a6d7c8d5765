"""How values travel between two snapshots: JSON for what is small, and typed bytes for columns and arrays; never a form
that runs code. This file is used on both sides: it needs nothing but the standard library (3.8 on), and knows arrays
and frames where their packages are.

A message is the length of its head (4 bytes, big-endian), the head (JSON, UTF-8), and the parts whose sizes the head
lists under "parts". What JSON has no place for is an object with "$": see docs/elsewhere.md.
"""

from __future__ import annotations

import array
import datetime
import json
import math
import os
import struct
import sys
from typing import IO, Any, Callable, Dict, List, Optional

__all__ = ["Cut", "NotSent", "decode", "encode", "receive", "send"]

_SAFE = 2**53  # beyond, other languages' numbers are not exact
_MOST_HEAD = 1 << 30
_MISSING_TIME = -(2**63)


class NotSent(Exception):
    """A value that cannot travel: where it is, and what it is."""


class Cut(Exception):
    """The other side ended in the middle of a message, or before one."""


# ---- messages


def send(stream: IO[bytes], value: Any) -> None:
    """Write a message.

    Raises:
        NotSent: something in it cannot travel; nothing was written.
    """
    parts: List[bytes] = []
    body = encode(value, parts, "the value")
    head = json.dumps({"parts": [memoryview(one).nbytes for one in parts], "value": body}, separators=(",", ":"))
    data = head.encode("utf-8", "surrogatepass")
    stream.write(struct.pack(">I", len(data)))
    stream.write(data)
    for one in parts:
        stream.write(one)
    stream.flush()


def receive(stream: Any) -> Any:
    """Read a message.

    Raises:
        Cut: there is none.
    """
    (size,) = struct.unpack(">I", _exactly(stream, 4))
    if size > _MOST_HEAD:
        raise Cut("a head of %d bytes" % size)
    head = json.loads(_exactly(stream, size).decode("utf-8", "surrogatepass"))
    parts = [_exactly(stream, one) for one in head["parts"]]
    return decode(head["value"], parts)


def _exactly(stream: Any, size: int) -> bytes:
    pieces = []
    while size:
        piece = stream.read(min(size, 1 << 26))
        if not piece:
            raise Cut("it ended")
        pieces.append(piece)
        size -= len(piece)
    return pieces[0] if len(pieces) == 1 else b"".join(pieces)


# ---- out


def encode(value: Any, parts: List[bytes], where: str) -> Any:
    """A value as JSON has it; bytes go into the parts.

    Args:
        where: what it is called, for whoever has to change it.

    Raises:
        NotSent: it cannot travel.
    """
    if value is None or isinstance(value, (bool, str)):
        return value
    if type(value) is int:
        return value if -_SAFE <= value <= _SAFE else {"$": "int", "v": str(value)}
    if type(value) is float:
        return value if math.isfinite(value) else {"$": "float", "v": repr(value)}
    if isinstance(value, (list, tuple)):
        return [encode(one, parts, "%s[%d]" % (where, at)) for at, one in enumerate(value)]
    if type(value) is dict:
        return _encoded_dict(value, parts, where)
    if isinstance(value, (bytes, bytearray, memoryview)):
        return {"$": "bytes", "part": _part(bytes(value), parts)}
    if isinstance(value, datetime.datetime):
        return {"$": "time", "v": value.isoformat()}
    if isinstance(value, datetime.date):
        return {"$": "date", "v": value.isoformat()}
    if isinstance(value, os.PathLike):
        return {"$": "path", "v": os.path.abspath(os.fspath(value))}
    return _encoded_of_packages(value, parts, where)


def _encoded_dict(value: Dict[Any, Any], parts: List[bytes], where: str) -> Any:
    for key in value:
        if not isinstance(key, str):
            raise NotSent("%s has a key that is no text: %r" % (where, key))
    made = {key: encode(one, parts, "%s[%r]" % (where, key)) for key, one in value.items()}
    return {"$": "dict", "v": made} if "$" in made else made


def _part(data: Any, parts: List[bytes]) -> int:
    parts.append(data)
    return len(parts) - 1


def _encoded_of_packages(value: Any, parts: List[bytes], where: str) -> Any:
    numpy, pandas = sys.modules.get("numpy"), sys.modules.get("pandas")
    if numpy is not None and isinstance(value, numpy.generic):
        return encode(value.item(), parts, where) if value.dtype.kind in "biuf" else _not(value, where)
    if pandas is not None and isinstance(value, pandas.DataFrame):
        return _encoded_frame(value, parts, where, numpy, pandas)
    if pandas is not None and isinstance(value, pandas.Series):
        return {"$": "column", "of": _column(str(value.name), value, parts, where, numpy, pandas)}
    if numpy is not None and isinstance(value, numpy.ndarray):
        return _encoded_array(value, parts, where, numpy)
    if pandas is not None and value is pandas.NA:
        return None
    return _not(value, where)


def _not(value: Any, where: str) -> Any:
    raise NotSent(
        "%s is a %s, which does not travel: send lists, tables of names, arrays, data frames, or a path to a file"
        % (where, type(value).__name__)
    )


def _encoded_array(value: Any, parts: List[bytes], where: str, numpy: Any) -> Any:
    if value.dtype.kind not in "biuf":
        return encode(value.tolist(), parts, where)
    plain = numpy.ascontiguousarray(value, dtype=value.dtype.newbyteorder("<"))
    return {"$": "array", "dtype": plain.dtype.str.replace("=", "<"), "shape": list(value.shape),
            "part": _part(plain.tobytes(), parts)}  # fmt: skip


def _encoded_frame(value: Any, parts: List[bytes], where: str, numpy: Any, pandas: Any) -> Any:
    names = [str(name) for name in value.columns]
    if len(set(names)) != len(names):
        raise NotSent("%s has two columns of one name" % where)
    columns = [
        _column(name, value.iloc[:, at], parts, "%s[%r]" % (where, name), numpy, pandas)
        for at, name in enumerate(names)
    ]
    return {"$": "frame", "rows": len(value), "columns": columns}


def _column(name: str, column: Any, parts: List[bytes], where: str, numpy: Any, pandas: Any) -> Any:
    """A column: its kind, its bytes, and where something is missing."""
    told: Dict[str, Any] = {"name": name, "rows": len(column)}
    kind = str(column.dtype)
    if kind == "category":
        codes = numpy.asarray(column.cat.codes, dtype="<i4")
        levels = [encode(one, parts, where) for one in column.cat.categories]
        return {**told, "kind": "category", "levels": levels, "ordered": bool(column.cat.ordered),
                "part": _part(codes.tobytes(), parts)}  # fmt: skip
    missing = numpy.asarray(column.isna())
    if missing.any() and not kind.startswith("float"):
        told["missing"] = _part(numpy.packbits(missing, bitorder="little").tobytes(), parts)
    if kind.startswith("datetime64"):
        zone = getattr(column.dtype, "tz", None)
        utc = column.dt.tz_convert("UTC").dt.tz_localize(None) if zone is not None else column
        nanoseconds = numpy.asarray(utc.astype("datetime64[ns]")).astype("<i8")
        return {**told, "kind": "time", "zone": str(zone) if zone is not None else None,
                "part": _part(nanoseconds.tobytes(), parts)}  # fmt: skip
    name_of = kind.lower()
    if name_of in ("bool", "boolean"):
        data = column.fillna(False) if missing.any() else column
        return {**told, "kind": "bool", "part": _part(numpy.asarray(data, dtype="u1").tobytes(), parts)}
    if name_of.startswith(("int", "uint")):
        data = column.fillna(0) if missing.any() else column
        if name_of == "uint64" and len(data) and int(data.max()) >= 2**63:
            raise NotSent("%s has numbers beyond 64 bits with a sign" % where)
        return {**told, "kind": "int", "part": _part(numpy.asarray(data, dtype="<i8").tobytes(), parts)}
    if name_of.startswith("float"):
        return {**told, "kind": "float", "part": _part(numpy.asarray(column, dtype="<f8").tobytes(), parts)}
    texts = [None if gone else one for one, gone in zip(column, missing)]  # noqa: B905 (3.10 on)
    if any(one is not None and not isinstance(one, str) for one in texts):
        return {**told, "kind": "list", "values": [encode(one, parts, where) for one in texts]}
    return {**told, "kind": "text", **_texts([one or "" for one in texts], parts)}


def _texts(texts: List[str], parts: List[bytes]) -> Dict[str, int]:
    """Texts one after the other, and where each ends."""
    encoded = [one.encode("utf-8", "surrogatepass") for one in texts]
    ends, at = array.array("q"), 0
    for one in encoded:
        at += len(one)
        ends.append(at)
    if sys.byteorder == "big":
        ends.byteswap()
    return {"ends": _part(ends.tobytes(), parts), "part": _part(b"".join(encoded), parts)}


# ---- back


def decode(value: Any, parts: List[bytes]) -> Any:
    """A value as it was sent; what a package would hold, which is not here, comes as lists."""
    if isinstance(value, list):
        return [decode(one, parts) for one in value]
    if not isinstance(value, dict):
        return value
    kind = value.get("$")
    if kind is None:
        return {key: decode(one, parts) for key, one in value.items()}
    if kind == "dict":
        return {key: decode(one, parts) for key, one in value["v"].items()}
    if kind in _SIMPLE:
        return _SIMPLE[kind](value["v"])
    if kind == "bytes":
        return parts[value["part"]]
    if kind == "array":
        return _decoded_array(value, parts)
    if kind == "column":
        return _decoded_column(value["of"], parts)
    if kind == "frame":
        return _decoded_frame(value, parts)
    raise ValueError("a value of an unknown kind: %r" % kind)


def _time(text: str) -> datetime.datetime:
    return datetime.datetime.fromisoformat(text.replace("Z", "+00:00"))


_SIMPLE: Dict[str, Callable[[str], Any]] = {
    "int": int,
    "float": float,
    "time": _time,
    "date": datetime.date.fromisoformat,
    "path": str,
}


def _module(name: str) -> Any:
    try:
        return __import__(name)
    except ImportError:
        return None


def _numbers(code: str, data: bytes) -> List[Any]:
    found = array.array(code)
    found.frombytes(data)
    if sys.byteorder == "big":
        found.byteswap()
    return found.tolist()


def _decoded_array(value: Dict[str, Any], parts: List[bytes]) -> Any:
    numpy = _module("numpy")
    if numpy is not None:
        return numpy.frombuffer(parts[value["part"]], dtype=value["dtype"]).reshape(value["shape"]).copy()
    codes = {"<f8": "d", "<f4": "f", "<i8": "q", "<i4": "i", "<i2": "h", "|i1": "b", "|u1": "B", "|b1": "B", "<u8": "Q",
             "<u4": "I", "<u2": "H"}  # fmt: skip
    flat = _numbers(codes[value["dtype"]], parts[value["part"]])
    return _nested(flat, value["shape"])


def _nested(flat: List[Any], shape: List[int]) -> Any:
    if len(shape) <= 1:
        return flat if shape else flat[0]
    size = len(flat) // shape[0] if shape[0] else 0
    return [_nested(flat[at * size : (at + 1) * size], shape[1:]) for at in range(shape[0])]


def _decoded_frame(value: Dict[str, Any], parts: List[bytes]) -> Any:
    columns = [(one["name"], _decoded_column(one, parts)) for one in value["columns"]]
    pandas = _module("pandas")
    if pandas is None:
        return dict(columns)
    return pandas.DataFrame(
        dict(columns), index=pandas.RangeIndex(value["rows"]), columns=[name for name, _ in columns]
    )


def _missing(told: Dict[str, Any], parts: List[bytes]) -> Optional[List[bool]]:
    if "missing" not in told:
        return None
    bits = parts[told["missing"]]
    return [bool(bits[at >> 3] >> (at & 7) & 1) for at in range(told["rows"])]


def _decoded_column(told: Dict[str, Any], parts: List[bytes]) -> Any:
    pandas = _module("pandas")
    if pandas is not None:
        return _pandas_column(told, parts, pandas, _module("numpy"))
    gone = _missing(told, parts)
    values = _plain_column(told, parts)
    return [None if gone and gone[at] else one for at, one in enumerate(values)]


def _plain_column(told: Dict[str, Any], parts: List[bytes]) -> List[Any]:
    kind = told["kind"]
    if kind == "list":
        return [decode(one, parts) for one in told["values"]]
    data = parts[told["part"]]
    if kind == "float":
        return _numbers("d", data)
    if kind == "int":
        return _numbers("q", data)
    if kind == "bool":
        return [bool(one) for one in data]
    if kind == "text":
        return _cut_texts(told, parts)
    if kind == "category":
        levels = [decode(one, parts) for one in told["levels"]]
        return [levels[one] if one >= 0 else None for one in _numbers("i", data)]
    if kind == "time":
        epoch = datetime.datetime(1970, 1, 1, tzinfo=datetime.timezone.utc)
        made = []
        for one in _numbers("q", data):
            when = None if one == _MISSING_TIME else epoch + datetime.timedelta(microseconds=one // 1000)
            made.append(when if told.get("zone") or when is None else when.replace(tzinfo=None))
        return made
    raise ValueError("a column of an unknown kind: %r" % kind)


def _cut_texts(told: Dict[str, Any], parts: List[bytes]) -> List[str]:
    data, begin, texts = parts[told["part"]], 0, []
    for end in _numbers("q", parts[told["ends"]]):
        texts.append(data[begin:end].decode("utf-8", "surrogatepass"))
        begin = end
    return texts


def _pandas_column(told: Dict[str, Any], parts: List[bytes], pandas: Any, numpy: Any) -> Any:
    kind = told["kind"]
    gone = None
    if "missing" in told:
        bits = numpy.frombuffer(parts[told["missing"]], dtype="u1")
        gone = numpy.unpackbits(bits, bitorder="little")[: told["rows"]].astype(bool)
    if kind in ("float", "int", "bool"):
        dtype, nullable = {"float": ("<f8", "Float64"), "int": ("<i8", "Int64"), "bool": ("?", "boolean")}[kind]
        values = numpy.frombuffer(parts[told["part"]], dtype=dtype).copy()
        made = pandas.Series(values, name=told["name"])
        return made.astype(nullable).mask(gone) if gone is not None else made
    if kind == "category":
        codes = numpy.frombuffer(parts[told["part"]], dtype="<i4")
        levels = [decode(one, parts) for one in told["levels"]]
        return pandas.Series(pandas.Categorical.from_codes(codes, levels, ordered=told["ordered"]), name=told["name"])
    if kind == "time":
        made = pandas.Series(numpy.frombuffer(parts[told["part"]], dtype="<i8").copy().view("datetime64[ns]"))
        made.name = told["name"]
        return made.dt.tz_localize("UTC").dt.tz_convert(told["zone"]) if told.get("zone") else made
    values = [None if gone is not None and gone[at] else one for at, one in enumerate(_plain_column(told, parts))]
    return pandas.Series(values, name=told["name"], dtype=object if kind == "list" else None)
