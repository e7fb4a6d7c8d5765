"""Calls into another snapshot: values there and back, errors, ends; and never a form that runs code."""

from __future__ import annotations

import datetime
import io
import json
import math
import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pandas as pd
from pandas.testing import assert_frame_equal, assert_series_equal

import lapidar
from lapidar.core.elsewhere import wire
from lapidar.core.elsewhere.calling import CalledFailed
from support import WHEELS, Case, InFolder, install, pythons, wheel

KILNS = """\
import datetime, math, os, sys, time

VERSION = 1

def echo(value):
    return value

def kinds(*values, **named):
    return [type(one).__name__ for one in values], sorted(named)

def slope(xs, k=1):
    return k * (xs[-1] - xs[0])

def fails(text):
    inner = {"a": 1}
    return inner[text]

def odd():
    return object()

def prints(times):
    for _ in range(times):
        print("x" * 1000)
    return times

def dies(code):
    os._exit(code)

def quits():
    sys.exit(3)

def sleeps(seconds):
    time.sleep(seconds)

def where():
    return [os.getcwd(), sys.prefix, sys.version_info[:2], os.environ.get("KILN")]

count = 0
def counted():
    global count
    count += 1
    return count

class Kiln:
    @staticmethod
    def named():
        return "upper"
"""


class OnTheWire(InFolder):
    """Both sides of the form, in one process."""

    def back(self, value: object) -> object:
        stream = io.BytesIO()
        wire.send(stream, value)
        stream.seek(0)
        return wire.receive(stream)

    def test_what_is_plain(self) -> None:
        for value in (
            None, True, 0, -(2**53), 2**53, 2**64, -(10**40), 0.1, -0.0, 1e308, 5e-324, "", "\u00e4\u4e2d\x00", "\ud800",
            [], [1, [2, [None]]], {}, {"a": {"b": [1.5]}}, {"$": 1, "b": 2}, {"$": "int", "v": "9"}, b"\x00\xff" * 10,
            datetime.date(2026, 1, 31), datetime.datetime(1969, 12, 31, 23, 59, 59, 123456),
            datetime.datetime(2026, 1, 31, tzinfo=datetime.timezone(datetime.timedelta(hours=5, minutes=45))),
        ):  # fmt: skip
            again = self.back(value)
            self.assertEqual((again, type(again)), (value, type(value)))
        self.assertTrue(math.isnan(self.back(math.nan)))  # type: ignore[arg-type]
        self.assertEqual([self.back(math.inf), self.back(-math.inf)], [math.inf, -math.inf])
        self.assertEqual(math.copysign(1, self.back(-0.0)), -1)  # type: ignore[arg-type]
        self.assertEqual(self.back((1, 2)), [1, 2])
        self.assertEqual(self.back(Path("x")), os.path.abspath("x"))

    def test_arrays_and_frames(self) -> None:
        for made in (np.arange(6.0).reshape(2, 3), np.array([], "f4"), np.array(3), np.array([True, False]),
                     np.arange(4, dtype=">i4"), np.arange(6).reshape(2, 3).T, np.array([2**64 - 1], "u8")):  # fmt: skip
            again = self.back(made)
            assert isinstance(again, np.ndarray)
            np.testing.assert_array_equal(again, made)
            self.assertEqual((again.shape, again.dtype.kind), (made.shape, made.dtype.kind))
        self.assertEqual(self.back(np.float64(1.5)), 1.5)
        frame = pd.DataFrame(
            {
                "number": [1.5, math.nan, -math.inf],
                "count": [1, 2, -3],
                "some": pd.array([1, None, 3], dtype="Int64"),
                "yes": [True, False, True],
                "maybe": pd.array([True, None, False], dtype="boolean"),
                "kiln": pd.Categorical(["upper", None, "river"], categories=["river", "upper", "never"], ordered=True),
                "when": pd.to_datetime(["2026-01-31", None, "1969-12-31 23:59:59.123456789"], format="ISO8601").astype(
                    "datetime64[ns]"
                ),
                "there": pd.to_datetime(["2026-01-31"] * 3)
                .tz_localize("Asia/Kathmandu")
                .astype("datetime64[ns, Asia/Kathmandu]"),
                "text": ["\u00e4", "", "long " * 50],
            }
        )
        again = self.back(frame)
        assert isinstance(again, pd.DataFrame)
        assert_frame_equal(again, frame, check_dtype=False)
        for name in ("number", "count", "some", "yes", "maybe", "kiln", "when", "there"):
            self.assertEqual(str(again[name].dtype).lower(), str(frame[name].dtype).lower(), name)
        texts = self.back(pd.Series(["a", None, "b"], name="t"))
        assert isinstance(texts, pd.Series)
        self.assertEqual([None if pd.isna(one) else one for one in texts], ["a", None, "b"])
        for empty in (pd.DataFrame(), pd.DataFrame({"a": pd.Series([], dtype=float)}), frame.iloc[:0]):
            assert_frame_equal(
                self.back(empty), empty, check_dtype=False, check_index_type=False, check_column_type=False
            )  # type: ignore[arg-type]
        wide = pd.DataFrame(np.arange(20_000.0).reshape(1, 20_000))
        wide.columns = wide.columns.map(str)
        assert_frame_equal(self.back(wide), wide)  # type: ignore[arg-type]
        assert_series_equal(self.back(pd.Series([1, 2], name="x")), pd.Series([1, 2], name="x"))  # type: ignore[arg-type]

    def test_what_does_not_travel(self) -> None:
        for value, told in (
            ({"a": [1, object()]}, "the value['a'][1] is a object"),
            ({1: 2}, "a key that is no text"),
            (lambda: 1, "is a function"),
            (1j, "is a complex"),
            (pd.DataFrame([[1, 2]], columns=["a", "a"]), "two columns of one name"),
        ):
            stream = io.BytesIO()
            with self.assertRaises(wire.NotSent) as caught:
                wire.send(stream, value)
            self.assertIn(told, str(caught.exception))
            self.assertEqual(stream.getvalue(), b"", "nothing was written")

    def test_what_is_cut_or_odd(self) -> None:
        stream = io.BytesIO()
        wire.send(stream, {"a": np.arange(100.0)})
        whole = stream.getvalue()
        for size in (0, 3, 4, 20, len(whole) - 1):
            with self.assertRaises(wire.Cut):
                wire.receive(io.BytesIO(whole[:size]))
        with self.assertRaises(wire.Cut):
            wire.receive(io.BytesIO(b"\xff" * 100))
        head = json.dumps({"parts": [], "value": {"$": "code", "v": "1"}}).encode()
        with self.assertRaises(ValueError):
            wire.receive(io.BytesIO(len(head).to_bytes(4, "big") + head))


class Calls(Case):
    own_cache = True

    def setUp(self) -> None:
        super().setUp()
        kilns = wheel(self.folder, "kilns", files={"kilns/__init__.py": "", "kilns/fit.py": KILNS})
        self.venv = self.environment(kilns)
        self.declare_conditions()
        self.lapidar("capture", self.venv, "--scope", "whole")
        self.old = self.json("show")["snapshot"][7:19]

    def declare_conditions(self) -> None:
        (self.project / "lapidar.toml").write_text('[conditions]\nenv = ["KILN=three"]\n')

    def there(self, what: object = "") -> lapidar.core.flows.elsewhere.Elsewhere:  # type: ignore[name-defined]
        return lapidar.elsewhere(str(what or self.old), project=self.project, cache=self.cache)

    def test_values_there_and_back(self) -> None:
        with self.there() as old:
            self.assertEqual(old.call("kilns.fit:slope", [1, 5], k=3), 12)
            self.assertEqual(old.call("kilns.fit:Kiln.named"), "upper")
            told = old.call("kilns.fit:kinds", 1, 1.5, None, [1], {"a": 1}, b"x", datetime.date(2026, 1, 1), k=1)
            self.assertEqual(told, [["int", "float", "NoneType", "list", "dict", "bytes", "date"], ["k"]])
            self.assertEqual(old.call("kilns.fit:counted"), 1)
            self.assertEqual(old.call("kilns.fit:counted"), 2, "one process for the block")
            where = old.call("kilns.fit:where")
            self.assertEqual((where[0], where[3]), (str(self.project), "three"), "under its conditions")
            # A frame, where the other side has no pandas: columns by their names.
            frame = pd.DataFrame({"a": [1, 2], "b": ["x", None], "c": pd.Categorical(["u", "v"])})
            self.assertEqual(old.call("kilns.fit:echo", frame), {"a": [1, 2], "b": ["x", None], "c": ["u", "v"]})
            self.assertEqual(old.call("kilns.fit:echo", np.arange(4.0).reshape(2, 2)), [[0.0, 1.0], [2.0, 3.0]])
            began = time.perf_counter()
            for number in range(1000):
                self.assertEqual(old.call("kilns.fit:echo", number), number)
            self.assertLess(time.perf_counter() - began, 20, "a thousand small calls")

    def test_what_goes_wrong(self) -> None:
        with self.there() as old:
            with self.assertRaises(CalledFailed) as caught:
                old.call("kilns.fit:fails", "b")
            self.assertIn("KeyError: 'b'", caught.exception.what)
            self.assertIn("return inner[text]", caught.exception.said)
            self.assertEqual(caught.exception.type, "KeyError")
            for name, told in (
                ("kilns.fit:nothing", "has no attribute 'nothing'"),
                ("kilns.other:x", "No module named 'kilns.other'"),
                ("kilns.fit:odd", "is a object, which does not travel"),
                ("kilns.fit:quits", "SystemExit"),
            ):
                with self.assertRaises(CalledFailed) as caught:
                    old.call(name)
                self.assertIn(told, caught.exception.what)
            with self.assertRaises(lapidar.LapidarError) as refused:
                old.call("kilns.fit:echo", object())
            self.assertIn("does not travel", refused.exception.what)
            with self.assertRaises(lapidar.LapidarError):
                old.call("kilns.fit")
            self.assertEqual(old.call("kilns.fit:echo", 1), 1, "and it goes on")
            with self.assertRaises(CalledFailed) as caught:
                old.call("kilns.fit:dies", 7)
            self.assertIn("(exit code 7)", caught.exception.what)
        began = time.monotonic()
        with self.there() as old:
            with self.assertRaises(CalledFailed) as caught:
                old.call("kilns.fit:sleeps", 60, timeout=0.5)
            self.assertEqual(old.call("kilns.fit:counted"), 1, "another process answers what is asked next")
        self.assertIn("did not end within 0.5 s", caught.exception.what)
        self.assertLess(time.monotonic() - began, 20)

    def test_another_runtime_and_a_frame_there(self) -> None:
        other = next(
            (one for one in pythons() if os.path.realpath(one) != os.path.realpath(sys.executable)), sys.executable
        )
        kilns = next(self.folder.glob("kilns-*.whl"))
        venv = self.environment(kilns, name="other", python=other)
        self.lapidar("capture", venv, "--scope", "whole", "--lock", self.folder / "other.lock")
        with self.there(self.folder / "other.lock") as old:
            version = old.call("kilns.fit:where")[2]
            self.assertEqual(old.call("kilns.fit:echo", [math.inf, 2**70]), [math.inf, 2**70])
        asked = subprocess.run(
            [other, "-c", "import sys; print(list(sys.version_info[:2]))"], capture_output=True, text=True
        )
        self.assertEqual(str(version), asked.stdout.strip())

    def test_frames_where_both_have_them(self) -> None:
        for name in ("numpy", "pandas", "python_dateutil", "six", "pytz", "tzdata"):
            for found in WHEELS.glob(f"{name}-*.whl"):
                install(found, self.venv)
        self.lapidar("capture", self.venv, "--scope", "whole", "--yes")
        frame = pd.DataFrame({"a": np.arange(1000.0), "kiln": pd.Categorical(["u", "r"] * 500)})
        with self.there(self.lock) as old:
            assert_frame_equal(old.call("kilns.fit:echo", frame), frame)

    def test_from_a_shell_and_other_sources(self) -> None:
        def called(*words: object, code: int = 0) -> subprocess.CompletedProcess[str]:
            return self.lapidar("call", *words, code=code)

        self.assertEqual(called("--in", self.old, "kilns.fit:slope", "--given", "[[1, 5], 2]").stdout, "8\n")
        self.assertEqual(
            called("kilns.fit:slope", "--in", self.project, "--given", '{"xs": [0, 2], "k": 4}').stdout, "8\n"
        )
        done = called("kilns.fit:prints", "--in", self.old, "--given", "[3]")
        self.assertEqual(done.stdout, "3\n")
        self.assertIn("xxxx", done.stderr)
        parcel = self.folder / "p.tar"
        self.lapidar("parcel", "make", "--without-lapidar", "--to", parcel)
        self.variables["LAPIDAR_CACHE"] = str(self.folder / "elsewhere")
        empty = self.folder / "empty"
        empty.mkdir()
        self.lapidar("parcel", "fetch", parcel)
        done = self.lapidar("call", "--in", parcel, "kilns.fit:echo", "--given", "7", cwd=empty)
        self.assertEqual(done.stdout, "7\n")
        self.assertEqual(list(empty.iterdir()), [])
        self.assertIn("not valid JSON", self.fails("call", "--in", parcel, "kilns.fit:echo", "--given", "{"))
        self.assertIn("KeyError", self.fails("call", "--in", parcel, "kilns.fit:fails", "--given", '["x"]'))
        self.assertIn(
            "did not end within",
            self.fails("call", "--in", parcel, "kilns.fit:sleeps", "--given", "60", "--at-most", "0.5"),
        )
        self.fails("call", "--in", "0000", "kilns.fit:echo")
        self.assertIn("No snapshot was named", self.fails("call", "--in", "", "kilns.fit:echo", "--given", "[7]"))
        shutil.rmtree(self.variables["LAPIDAR_CACHE"])
