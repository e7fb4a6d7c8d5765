"""How values travel between two snapshots: JSON for what is small, typed bytes for columns and arrays, Arrow's stream
for frames where both sides have it; never a form that runs code. This file is used on both sides: it needs nothing but
the standard library (3.8 on), and knows arrays and frames where their packages are. R's side of it is _wire.R.

A message is the length of its head (4 bytes, big-endian), the head (JSON, UTF-8), and the parts whose sizes the head
lists under "parts". What JSON has no place for is an object with "$": see docs/elsewhere.md.
"""

from __future__ import annotations

import array
import datetime
import functools
import itertools
import json
import math
import os
import re
import struct
import sys
from typing import IO, Any, Callable, Dict, Iterable, Iterator, List, Optional, Sequence, Tuple

__all__ = ["Cut", "NotSent", "has", "receive", "receive_raw", "send", "send_raw"]

_SAFE = 2**53  # beyond, other languages' numbers are not exact
_MOST_HEAD = 1 << 30
_MISSING_TIME = -(2**63)
_ARROW = 15  # before, a stream could name a type that was unpickled
_EPOCH = datetime.date(1970, 1, 1).toordinal()
_NUMBER = re.compile(r"u?(int|float|double|bool)(?:ean)?\d*(?:\[pyarrow\])?$")
_IN_ARROW = re.compile(r"(u?int\d|float\d|bool|str|category$|datetime64|timedelta64|object$)", re.IGNORECASE)
_PLAIN: Dict[str, Tuple[str, str, Any]] = {
    "bool": ("bool", "u1", False),
    "int": ("int", "<i8", 0),
    "float": ("float", "<f8", 0.0),
    "double": ("float", "<f8", 0.0),
}
_USUAL = {"bool": ("bool", "boolean"), "int": ("int64", "Int64"), "float": ("float64", "Float64")}  # with some missing
_BLOCKS = ("b1", "i1", "i2", "i4", "i8", "u1", "u2", "u4", "u8", "f4", "f8")  # columns of one kind go as one array
_NA = 1954  # the lower half of R's missing number
_UNITS = {"s": 1, "ms": 1000, "us": 1_000_000, "ns": 1_000_000_000}


class NotSent(Exception):
    """A value that cannot travel: where it is, and what it is."""


class Cut(Exception):
    """The other side ended in the middle of a message, or before one."""


# ---- messages


class _Out:
    """A message in the making: the parts of it so far, and whether frames go as Arrow's stream."""

    def __init__(self, arrow: bool) -> None:
        self.parts: List[Any] = []
        self.arrow = arrow

    def part(self, data: Any) -> int:
        self.parts.append(data)
        return len(self.parts) - 1


@functools.lru_cache(maxsize=None)
def has() -> Sequence[str]:
    """What this side can read besides the plain form: "arrow" where a pyarrow is that unpickles nothing by itself."""
    from importlib.util import find_spec

    if find_spec("pyarrow") is None or find_spec("pandas") is None:
        return ()
    from importlib.metadata import version

    return ("arrow",) if int(version("pyarrow").partition(".")[0]) >= _ARROW else ()


def send(stream: IO[bytes], value: Any, having: Sequence[str] = ()) -> None:
    """Write a message.

    Args:
        having: what the other side can read besides the plain form, as its `has` says.

    Raises:
        NotSent: something in it cannot travel; nothing was written.
    """
    out = _Out("arrow" in having and bool(has()))
    try:
        body = _encoded(value, out, "the value")
        told = {"parts": [memoryview(one).nbytes for one in out.parts], "value": body}
        head = json.dumps(told, separators=(",", ":"), ensure_ascii=False)
    except RecursionError:
        raise NotSent("the value holds itself, or is nested too deeply") from None
    data = head.encode("utf-8", "surrogatepass")
    if len(data) > _MOST_HEAD:
        raise NotSent("the value is too large: send arrays, data frames, or a path to a file")
    send_raw(stream, data, out.parts)


def send_raw(stream: IO[bytes], head: bytes, parts: Iterable[Any]) -> None:
    """Write a message that is made already."""
    stream.write(struct.pack(">I", len(head)))
    stream.write(head)
    for one in parts:
        stream.write(one)
    stream.flush()


def receive(stream: Any) -> Any:
    """Read a message.

    Raises:
        Cut: there is none.
    """
    _, head, parts = receive_raw(stream)
    return _decoded(head["value"], list(parts))


def receive_raw(stream: Any) -> Tuple[bytes, Any, Iterator[bytearray]]:
    """Read a message without what it means: its head, that as JSON has it, and its parts, read as one goes on.

    Raises:
        Cut: there is none.
    """
    (size,) = struct.unpack(">I", _exactly(stream, 4))
    if size > _MOST_HEAD:
        raise Cut("a head of %d bytes" % size)
    data = bytes(_exactly(stream, size))
    head = json.loads(data.decode("utf-8", "surrogatepass"))
    return data, head, (_exactly(stream, one) for one in head["parts"])


def _exactly(stream: Any, size: int) -> bytearray:
    data = bytearray(size)
    room, at = memoryview(data), 0
    while at < size:
        count = stream.readinto(room[at:])
        if not count:
            raise Cut("it ended")
        at += count
    return data


# ---- out


def _encoded(value: Any, out: _Out, where: str) -> Any:
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
        return [_encoded(one, out, "%s[%d]" % (where, at)) for at, one in enumerate(value)]
    if isinstance(value, dict):
        return _encoded_dict(value, out, where)
    if isinstance(value, (bytes, bytearray, memoryview)):
        return {"$": "bytes", "part": out.part(bytes(value))}
    if isinstance(value, datetime.datetime):
        return _encoded_time(value, where)
    if isinstance(value, datetime.date):
        return {"$": "date", "v": value.isoformat()}
    if isinstance(value, os.PathLike):
        return {"$": "path", "v": os.path.abspath(os.fspath(value))}
    return _encoded_of_packages(value, out, where)


def _encoded_dict(value: Dict[Any, Any], out: _Out, where: str) -> Any:
    for key in value:
        if not isinstance(key, str):
            raise NotSent("%s has a key that is no text: %r" % (where, key))
    made = {key: _encoded(one, out, "%s[%r]" % (where, key)) for key, one in value.items()}
    return {"$": "dict", "v": made} if "$" in made else made


def _encoded_time(value: Any, where: str) -> Any:
    if value != value:  # what pandas has for a missing one
        return None
    if getattr(value, "nanosecond", 0):
        raise NotSent("%s is a time with nanoseconds: send it as a column, or round it" % where)
    return {"$": "time", "v": value.isoformat()}


def _encoded_of_packages(value: Any, out: _Out, where: str) -> Any:
    numpy, pandas = sys.modules.get("numpy"), sys.modules.get("pandas")
    if numpy is not None and isinstance(value, numpy.generic):
        return _encoded(value.item(), out, where) if value.dtype.kind in "biuf" else _not(value, where)
    if pandas is not None:
        if isinstance(value, pandas.DataFrame):
            return _encoded_frame(value, out, where, numpy, pandas)
        if isinstance(value, (pandas.Index, pandas.api.extensions.ExtensionArray)):
            value = pandas.Series(value, index=range(len(value)), name=getattr(value, "name", None))
        if isinstance(value, pandas.Series):
            told = _column(_name(value.name, where), value, out, where, numpy, pandas)
            return {"$": "column", "of": {**told, **_index(value, out, where, numpy, pandas)}}
        if value is pandas.NA:
            return None
    if numpy is not None and isinstance(value, numpy.ndarray):
        return _encoded_array(value, out, where, numpy)
    return _not(value, where)


def _not(value: Any, where: str) -> Any:
    raise NotSent(
        "%s is a %s, which does not travel: send lists, tables of names, arrays, data frames, or a path to a file"
        % (where, type(value).__name__)
    )


def _encoded_array(value: Any, out: _Out, where: str, numpy: Any) -> Any:
    if value.dtype.kind in "USO" and not numpy.ma.isMaskedArray(value):
        return _encoded(value.tolist(), out, where)
    if value.dtype.kind not in "biuf" or value.dtype.itemsize > 8 or numpy.ma.isMaskedArray(value):
        raise NotSent(
            "%s is an array of %s%s, which does not travel: send numbers, or a column of a data frame"
            % (where, value.dtype, " with a mask" if numpy.ma.isMaskedArray(value) else "")
        )
    dtype = numpy.dtype("f4") if value.dtype.itemsize == 2 and value.dtype.kind == "f" else value.dtype
    plain = numpy.ascontiguousarray(value, dtype=dtype.newbyteorder("<"))
    return {"$": "array", "dtype": plain.dtype.str.replace("=", "<"), "shape": list(value.shape),
            "part": out.part(_bytes(plain))}  # fmt: skip


def _bytes(array_of: Any) -> Any:
    """The bytes of a contiguous array, not copied."""
    return memoryview(array_of.reshape(-1)).cast("B") if array_of.size else b""


def _name(name: Any, where: str) -> Any:
    told = _encoded(name.item() if hasattr(name, "item") else name, _Out(False), where)
    if isinstance(told, (dict, list)):
        raise NotSent("%s has a name that is neither text nor a number: %r" % (where, name))
    return told


def _encoded_frame(value: Any, out: _Out, where: str, numpy: Any, pandas: Any) -> Any:
    names = [_name(name, where) for name in value.columns]
    if len(set(names)) != len(names):
        raise NotSent("%s has two columns of one name" % where)
    if out.arrow:
        part = _arrow_stream(value, pandas)
        if part is not None:
            return {"$": "arrow", "part": out.part(part)}
    told = {"$": "frame", "rows": len(value), **_index(value, out, where, numpy, pandas)}
    kinds = set(value.dtypes)
    if len(kinds) == 1 and isinstance(next(iter(kinds)), numpy.dtype) and next(iter(kinds)).str[1:] in _BLOCKS:
        return {**told, "names": names, "block": _encoded_array(value.to_numpy().T, out, where, numpy)}
    columns = [
        _column(name, value.iloc[:, at], out, "%s[%r]" % (where, name), numpy, pandas) for at, name in enumerate(names)
    ]
    return {**told, "columns": columns}


def _arrow_stream(frame: Any, pandas: Any) -> Any:
    """A frame as Arrow's stream; None where it would come back as something else."""
    for at, dtype in enumerate(frame.dtypes):
        if not _IN_ARROW.match(str(dtype)):
            return None
        if str(dtype) == "object" and pandas.api.types.infer_dtype(frame.iloc[:, at]) not in ("string", "empty"):
            return None
    import pyarrow

    try:
        table = pyarrow.Table.from_pandas(frame)
    except (pyarrow.ArrowException, TypeError, ValueError):
        return None
    sink = pyarrow.BufferOutputStream()
    with pyarrow.ipc.new_stream(sink, table.schema) as stream:
        stream.write_table(table)
    return memoryview(sink.getvalue())


def _index(value: Any, out: _Out, where: str, numpy: Any, pandas: Any) -> Dict[str, Any]:
    """The labels of rows, where they are more than their numbers: a column for each level."""
    index = value.index
    if index.equals(pandas.RangeIndex(len(index))) and index.name is None:
        return {}
    levels = [pandas.Series(index.get_level_values(at), name=None) for at in range(index.nlevels)]
    return {
        "index": [
            _column(_name(name, where), level, out, "%s's index" % where, numpy, pandas)
            for name, level in zip(index.names, levels)  # noqa: B905 (3.10 on)
        ]
    }


def _column(name: Any, column: Any, out: _Out, where: str, numpy: Any, pandas: Any) -> Any:
    """A column: its kind, its bytes, and where something is missing."""
    told: Dict[str, Any] = {"name": name, "rows": len(column)}
    kind = str(column.dtype)
    if kind == "category":
        codes = numpy.ascontiguousarray(column.cat.codes, dtype="<i4")
        levels = [_encoded(one, out, where) for one in column.cat.categories]
        return {**told, "kind": "category", "levels": levels, "ordered": bool(column.cat.ordered),
                "part": out.part(_bytes(codes))}  # fmt: skip
    missing = numpy.asarray(column.isna())
    if missing.any() and not kind.startswith("float"):
        told["missing"] = out.part(numpy.packbits(missing, bitorder="little").tobytes())
    if kind.startswith(("datetime64", "timedelta64")):
        return {**told, **_times(column, kind, where, out, numpy, pandas)}
    number = _NUMBER.match(kind.lower())
    if number:
        wanted, dtype, empty = _PLAIN[number.group(1)]
        data = column.fillna(empty) if "missing" in told else column
        if kind.lower().startswith("uint64") and len(data) and int(data.max()) >= 2**63:
            raise NotSent("%s has numbers beyond 64 bits with a sign" % where)
        if kind != _USUAL[wanted]["missing" in told] and "[" not in kind:
            told["was"] = kind
        return {**told, "kind": wanted, "part": out.part(_bytes(numpy.ascontiguousarray(data, dtype=dtype)))}
    values = column.astype(object).tolist()
    for at in numpy.flatnonzero(missing).tolist():
        values[at] = None
    there = [one for one in values if one is not None] if missing.any() else values
    if all(isinstance(one, str) for one in there):
        return {**told, "kind": "text", **_texts([one or "" for one in values] if missing.any() else values, out)}
    if all(type(one) is datetime.date for one in there):
        days = [0 if one is None else one.toordinal() - _EPOCH for one in values]
        return {**told, "kind": "date", "part": out.part(numpy.array(days, dtype="<i4").tobytes())}
    return {**told, "kind": "list", "values": [_encoded(one, out, where) for one in values]}


def _times(column: Any, kind: str, where: str, out: _Out, numpy: Any, pandas: Any) -> Dict[str, Any]:
    """Times, and how long something took: whole numbers of a unit; times since 1970, in UTC."""
    unit = kind[kind.index("[") + 1 :].rstrip("]").partition(",")[0]
    told: Dict[str, Any] = {"kind": "time" if kind.startswith("date") else "duration", "unit": unit}
    zone = getattr(column.dtype, "tz", None)
    if zone is not None:
        told["zone"] = getattr(zone, "key", None) or getattr(zone, "zone", None) or str(zone)
        try:
            pandas.Timestamp(0, tz=told["zone"])
        except Exception:
            raise NotSent(
                "%s has the time zone %s, which has no name: convert it to one that has" % (where, zone)
            ) from None
        column = column.dt.tz_convert("UTC").dt.tz_localize(None)
    plain = numpy.ascontiguousarray(column).astype("<i8")
    return {**told, "part": out.part(_bytes(plain))}


def _texts(texts: List[str], out: _Out) -> Dict[str, int]:
    """Texts one after the other, and where each ends."""
    encoded = [one.encode("utf-8", "surrogatepass") for one in texts]
    ends = array.array("q", itertools.accumulate(map(len, encoded)))
    if sys.byteorder == "big":
        ends.byteswap()
    return {"ends": out.part(ends.tobytes()), "part": out.part(b"".join(encoded))}


# ---- back


def _decoded(value: Any, parts: List[bytearray]) -> Any:
    """A value as it was sent; what a package would hold, which is not here, comes as lists."""
    if isinstance(value, list):
        return [_decoded(one, parts) for one in value]
    if not isinstance(value, dict):
        return value
    kind = value.get("$")
    if kind is None:
        return {key: _decoded(one, parts) for key, one in value.items()}
    if kind == "dict":
        return {key: _decoded(one, parts) for key, one in value["v"].items()}
    if kind in _SIMPLE:
        return _SIMPLE[kind](value["v"])
    if kind == "bytes":
        return bytes(parts[value["part"]])
    if kind in _MADE:
        return _MADE[kind](value, parts)
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


def _numbers(code: str, data: bytearray) -> List[Any]:
    found = array.array(code)
    found.frombytes(data)
    if sys.byteorder == "big":
        found.byteswap()
    return found.tolist()


def _floats(data: bytearray) -> List[Any]:
    """Numbers; what R has for a missing one, a NaN of its own, is none."""
    values = _numbers("d", data)
    if any(one != one for one in values):
        bits = _numbers("Q", data)
        return [None if one != one and bits[at] & 0xFFFFFFFF == _NA else one for at, one in enumerate(values)]
    return values


def _decoded_array(value: Dict[str, Any], parts: List[bytearray]) -> Any:
    numpy = _module("numpy")
    if numpy is not None:
        return numpy.frombuffer(parts[value["part"]], dtype=value["dtype"]).reshape(value["shape"])
    codes = {"<f8": "d", "<f4": "f", "<i8": "q", "<i4": "i", "<i2": "h", "|i1": "b", "|u1": "B", "|b1": "B", "<u8": "Q",
             "<u4": "I", "<u2": "H"}  # fmt: skip
    data = parts[value["part"]]
    flat = _floats(data) if value["dtype"] == "<f8" else _numbers(codes[value["dtype"]], data)
    return _nested([bool(one) for one in flat] if value["dtype"] == "|b1" else flat, value["shape"])


def _nested(flat: List[Any], shape: List[int]) -> Any:
    if len(shape) <= 1:
        return flat if shape else flat[0]
    size = len(flat) // shape[0] if shape[0] else 0
    return [_nested(flat[at * size : (at + 1) * size], shape[1:]) for at in range(shape[0])]


def _decoded_arrow(value: Dict[str, Any], parts: List[bytearray]) -> Any:
    import pyarrow

    return pyarrow.ipc.open_stream(pyarrow.py_buffer(parts[value["part"]])).read_all().to_pandas()


def _decoded_frame(value: Dict[str, Any], parts: List[bytearray]) -> Any:
    pandas = _module("pandas")
    if "block" in value:
        names, block = value["names"], _decoded_array(value["block"], parts)
        if pandas is not None:
            made = pandas.DataFrame(block.T, index=pandas.RangeIndex(value["rows"]), columns=names)
            return _labelled(made, value, parts, pandas)
        columns = list(zip(names, block if isinstance(block, list) else block.tolist()))  # noqa: B905 (3.10 on)
    else:
        columns = [(one["name"], _column_of(one, parts)) for one in value["columns"]]
    if pandas is None:
        labels = {one["name"] or "index": _column_of(one, parts) for one in value.get("index", ())}
        return {**labels, **dict(columns)}
    index = pandas.RangeIndex(value["rows"])
    made = pandas.DataFrame(dict(columns), index=index, columns=[name for name, _ in columns])
    return _labelled(made, value, parts, pandas)


def _decoded_series(value: Dict[str, Any], parts: List[bytearray]) -> Any:
    told = value["of"]
    made = _column_of(told, parts)
    pandas = _module("pandas")
    if pandas is not None:
        return _labelled(made, told, parts, pandas)
    if "index" not in told:
        return made
    labels = [_column_of(one, parts) for one in told["index"]]
    if len(labels) == 1 and len(set(labels[0])) == len(made) and all(isinstance(one, str) for one in labels[0]):
        return dict(zip(labels[0], made))  # noqa: B905 (3.10 on)
    return {"index": labels[0] if len(labels) == 1 else labels, "values": made}


def _labelled(made: Any, told: Dict[str, Any], parts: List[bytearray], pandas: Any) -> Any:
    """A frame or a series with the labels of its rows."""
    if "index" in told:
        levels = [_column_of(one, parts) for one in told["index"]]
        names = [one["name"] for one in told["index"]]
        single = len(levels) == 1
        made.index = (
            pandas.Index(levels[0], name=names[0]) if single else pandas.MultiIndex.from_arrays(levels, names=names)
        )
    return made


_MADE: Dict[str, Callable[[Dict[str, Any], List[bytearray]], Any]] = {
    "array": _decoded_array,
    "arrow": _decoded_arrow,
    "column": _decoded_series,
    "frame": _decoded_frame,
}


def _missing(told: Dict[str, Any], parts: List[bytearray]) -> Optional[List[bool]]:
    if "missing" not in told:
        return None
    bits = parts[told["missing"]]
    return [bool(bits[at >> 3] >> (at & 7) & 1) for at in range(told["rows"])]


def _column_of(told: Dict[str, Any], parts: List[bytearray]) -> Any:
    pandas = _module("pandas")
    if pandas is not None:
        return _pandas_column(told, parts, pandas, _module("numpy"))
    gone = _missing(told, parts)
    values = _plain_column(told, parts)
    return [None if gone and gone[at] else one for at, one in enumerate(values)]


def _plain_column(told: Dict[str, Any], parts: List[bytearray]) -> List[Any]:
    kind = told["kind"]
    if kind == "list":
        return [_decoded(one, parts) for one in told["values"]]
    data = parts[told["part"]]
    if kind == "float":
        return _floats(data)
    if kind == "int":
        return _numbers("q", data)
    if kind == "bool":
        return [bool(one) for one in data]
    if kind == "text":
        return _cut_texts(told, parts)
    if kind == "category":
        levels = [_decoded(one, parts) for one in told["levels"]]
        return [levels[one] if one >= 0 else None for one in _numbers("i", data)]
    if kind == "date":
        return [datetime.date.fromordinal(_EPOCH + one) for one in _numbers("i", data)]
    if kind in ("time", "duration"):
        return _plain_times(told, _numbers("q", data))
    raise ValueError("a column of an unknown kind: %r" % kind)


def _plain_times(told: Dict[str, Any], numbers: List[int]) -> List[Any]:
    zone = datetime.timezone.utc if told.get("zone") else None
    begin = datetime.timedelta(0) if told["kind"] == "duration" else datetime.datetime(1970, 1, 1, tzinfo=zone)
    per_second = _UNITS[told["unit"]]
    return [
        None if one == _MISSING_TIME else begin + datetime.timedelta(microseconds=one * 1_000_000 // per_second)
        for one in numbers
    ]


def _cut_texts(told: Dict[str, Any], parts: List[bytearray]) -> List[str]:
    data, ends = bytes(parts[told["part"]]), _numbers("q", parts[told["ends"]])
    begins = itertools.chain((0,), ends)
    if data.isascii():
        text = data.decode("ascii")
        return [text[begin:end] for begin, end in zip(begins, ends)]  # noqa: B905 (3.10 on)
    return [data[begin:end].decode("utf-8", "surrogatepass") for begin, end in zip(begins, ends)]  # noqa: B905 (3.10 on)


def _pandas_column(told: Dict[str, Any], parts: List[bytearray], pandas: Any, numpy: Any) -> Any:
    kind = told["kind"]
    gone = None
    if "missing" in told:
        bits = numpy.frombuffer(parts[told["missing"]], dtype="u1")
        gone = numpy.unpackbits(bits, bitorder="little")[: told["rows"]].astype(bool)
    if kind in ("float", "int", "bool"):
        values = numpy.frombuffer(parts[told["part"]], dtype={"float": "<f8", "int": "<i8", "bool": "?"}[kind])
        made = pandas.Series(values, name=told["name"])
        made = made.astype(_USUAL[kind][1]).mask(gone) if gone is not None else made
        return made.astype(told["was"]) if "was" in told else made
    if kind == "category":
        codes = numpy.frombuffer(parts[told["part"]], dtype="<i4")
        levels = [_decoded(one, parts) for one in told["levels"]]
        return pandas.Series(pandas.Categorical.from_codes(codes, levels, ordered=told["ordered"]), name=told["name"])
    if kind in ("time", "duration"):
        dtype = "%s64[%s]" % ("datetime" if kind == "time" else "timedelta", told["unit"])
        made = pandas.Series(numpy.frombuffer(parts[told["part"]], dtype="<i8").view(dtype), name=told["name"])
        return made.dt.tz_localize("UTC").dt.tz_convert(told["zone"]) if told.get("zone") else made
    values = _plain_column(told, parts)
    for at in numpy.flatnonzero(gone).tolist() if gone is not None else ():
        values[at] = None
    usual = pandas.Series([""]).dtype if kind == "text" else object  # texts are of another kind from pandas 3 on
    return pandas.Series(values, name=told["name"], dtype=usual)
