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
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pandas as pd
from hypothesis import assume, given
from hypothesis import strategies as st
from pandas.testing import assert_frame_equal, assert_series_equal

import lapidar
from lapidar.core.elsewhere import wire
from lapidar.core.elsewhere.calling import CalledFailed
from lapidar.standin.r_packages import write_list, write_source_package
from roots import skip_loudly
from support import PROGRAM, WHEELS, Case, InFolder, install, pythons, wheel

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

class Mute(Exception):
    def __str__(self):
        raise ValueError

def mute():
    raise Mute

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


SCALARS = (
    st.none()
    | st.booleans()
    | st.integers(-(2**80), 2**80)
    | st.floats(allow_nan=False)
    | st.text(st.characters(codec=None))
    | st.binary()
    | st.dates()
    | st.datetimes(timezones=st.none() | st.just(datetime.UTC)).map(lambda one: one.replace(fold=0))
)
VALUES = st.recursive(SCALARS, lambda inner: st.lists(inner) | st.dictionaries(st.text(), inner), max_leaves=20)
COLUMNS = {
    "float": st.floats(), "int": st.integers(-(2**63), 2**63 - 1), "bool": st.booleans(), "text": st.text(),
    "maybe": st.none() | st.text(), "some": st.none() | st.integers(-(2**63), 2**63 - 1), "date": st.none() | st.dates(),
}  # fmt: skip
DTYPES = {"float": "float64", "int": "int64", "bool": "bool", "some": "Int64", "date": "object"}


@st.composite
def frames(draw: st.DrawFn) -> pd.DataFrame:
    rows = draw(st.integers(0, 5))
    kinds = draw(st.lists(st.sampled_from(sorted(COLUMNS)), max_size=5))
    columns = {
        f"{kind} {at}": pd.Series(
            draw(st.lists(COLUMNS[kind], min_size=rows, max_size=rows)), dtype=DTYPES.get(kind, "str")
        )
        for at, kind in enumerate(kinds)
    }
    labels = draw(st.none() | st.lists(st.text(), min_size=rows, max_size=rows, unique=True))
    frame = pd.DataFrame(columns, index=range(rows))
    return frame.set_axis(pd.Index(labels), axis=0) if labels else frame


class OnTheWire(InFolder):
    """Both sides of the form, in one process."""

    def back(self, value: object) -> object:
        stream = io.BytesIO()
        wire.send(stream, value)
        stream.seek(0)
        return wire.receive(stream)

    @given(VALUES)
    def test_any_value(self, value: object) -> None:
        self.assertEqual(repr(self.back(value)), repr(value))

    @given(frames(), st.booleans())
    def test_any_frame(self, frame: pd.DataFrame, arrow: bool) -> None:
        stream = io.BytesIO()
        wire.send(stream, frame, wire.has() if arrow else ())
        stream.seek(0)
        # A column of objects in which there is nothing may be one of texts.
        assume(all(column.notna().any() or column.dtype != object for _, column in frame.items()))
        assert_frame_equal(wire.receive(stream), frame, check_index_type=False, check_column_type=False)

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
        endless: list[object] = []
        endless.append(endless)
        for value, told in (
            ({"a": [1, object()]}, "the value['a'][1] is a object"),
            ({1: 2}, "a key that is no text"),
            (lambda: 1, "is a function"),
            (1j, "is a complex"),
            (pd.DataFrame([[1, 2]], columns=["a", "a"]), "two columns of one name"),
            (pd.DataFrame({("a", "b"): [1]}), "a name that is neither text nor a number"),
            (pd.DataFrame({"p": pd.interval_range(0, 2)}), "is a Interval"),
            (np.ma.array([1, 2], mask=[False, True]), "with a mask"),
            (np.array(["2026-01-01"], "M8[D]"), "an array of datetime64[D]"),
            (np.zeros(2, "g"), "an array of float128"),
            (pd.Timestamp(1, unit="ns"), "a time with nanoseconds"),
            ({1, 2}, "is a set"),
            (endless, "holds itself"),
        ):
            stream = io.BytesIO()
            with self.assertRaises(wire.NotSent) as caught:
                wire.send(stream, value)
            self.assertIn(told, str(caught.exception))
            self.assertEqual(stream.getvalue(), b"", "nothing was written")

    def test_rows_with_labels_and_kinds_as_they_were(self) -> None:
        dates = [datetime.date(2026, 1, 1), None, datetime.date(1, 1, 1)]
        frame = pd.DataFrame(
            {
                "small": np.array([1, 2, 3], "i1"),
                "half": np.array([1, 2, 3], "f4"),
                "some": pd.array([1, None, 3], dtype="UInt16"),
                "gone": pd.array([1.5, None, 3], dtype="Float32"),
                "date": dates,
                "far": pd.to_datetime(["2026-01-01", None, "1000-01-01"]).astype("datetime64[s]"),
                "span": pd.to_timedelta([1, 2, None], unit="s"),
                "fixed": pd.to_datetime(["2026-01-31"] * 3).tz_localize("+05:45"),
                "mixed": [[1, 2], None, {"a": b"x"}],
                7: [1, 2, 3],
            },
            index=pd.Index(["p", "q", "r"], name="row"),
        )
        again = self.back(frame)
        assert isinstance(again, pd.DataFrame)
        assert_frame_equal(again.drop(columns="fixed"), frame.drop(columns="fixed"))
        self.assertEqual(again["fixed"].tolist(), frame["fixed"].tolist())
        labelled = frame.set_index(["date", 7])
        assert_frame_equal(self.back(labelled[["small"]]), labelled[["small"]], check_column_type=False)  # type: ignore[arg-type]
        counts = pd.Series(["u", "r", "u"]).value_counts()
        assert_series_equal(self.back(counts), counts)  # type: ignore[arg-type]
        block = pd.DataFrame(np.arange(6, dtype="u4").reshape(2, 3), columns=[1, 2, 3], index=[5, 6])
        assert_frame_equal(self.back(block), block)  # type: ignore[arg-type]
        self.assertIsNone(self.back(pd.NaT))

    def test_by_arrow_where_both_have_it(self) -> None:
        frame = pd.DataFrame(
            {
                "a": [1.5, math.nan],
                "kiln": pd.Categorical(["u", None], ordered=True),
                "when": pd.to_datetime(["2026-01-31", None]).tz_localize("Asia/Kathmandu"),
                "some": pd.array([1, None], dtype="Int8"),
                "text": ["x", None],
            },
            index=["p", "q"],
        )
        self.assertEqual(wire.has(), ("arrow",))
        for value, is_arrow in ((frame, True), (pd.DataFrame({"odd": [1, "a"]}), False), (pd.DataFrame({"few": pd.arrays.SparseArray([0, 0, 1])}).sparse.to_dense(), True), (pd.DataFrame({"gone": [1, None]}, dtype=object), False)):  # fmt: skip
            stream = io.BytesIO()
            wire.send(stream, value, ["arrow"])
            self.assertEqual(b'"arrow"' in stream.getvalue()[:60], is_arrow)
            stream.seek(0)
            assert_frame_equal(wire.receive(stream), value)

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
                ("kilns.fit:odd", "what it gives is a object, which does not travel"),
                ("kilns.fit:mute", "an error that cannot be shown"),
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
            with ThreadPoolExecutor(4) as threads:
                self.assertEqual(
                    list(threads.map(lambda one: old.call("kilns.fit:echo", one), range(100))), list(range(100))
                )
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
        self.assertIn("There is no old/lapidar.lock", self.fails("call", "--in", "old/lapidar.lock", "kilns.fit:echo"))
        self.assertIn("No snapshot was named", self.fails("call", "--in", "", "kilns.fit:echo", "--given", "[7]"))
        shutil.rmtree(self.variables["LAPIDAR_CACHE"])


FIT = """\
echo <- function(x) x
kind <- function(x) paste(class(x)[[1]], typeof(x), length(x))
kinds <- function(...) vapply(list(...), kind, "")
inner <- function(x) stop("no such kiln: ", x)
fails <- function(x) inner(x)
counted <- local({ n <- 0L; function() n <<- n + 1L })
says <- function() { print("hot"); warning("too hot"); TRUE }
table_of <- function() { m <- matrix(1:4, 2, dimnames = list(c("a", "b"), c("u", "v"))); m }
bytes <- function() rawToChar(as.raw(c(0xff, 0xfe)))
odd <- function() lm(y ~ x, data.frame(x = 1:3, y = c(2, 4, 7)))
"""
ASKS = """\
library(lapidar)
old <- lapidar_elsewhere("lapidar.lock", language = "python")
r <- lapidar_elsewhere("lapidar.lock", language = "r")
same_r <- function(x) stopifnot(identical(lapidar_call(r, "fit.R:echo", x), x))
same <- function(x) { stopifnot(identical(lapidar_call(old, "tin:echo", x), x)); same_r(x) }
said <- function(...) cat(tryCatch(lapidar_call(old, ...), error = conditionMessage), "\\n")
same(c(1.5, NA, NaN, -Inf)); same(1L); same(c(TRUE, FALSE)); same(c(1L, NA)); same(c("x", NA, "\\u00e4\\"")); same(NULL)
same_r(matrix(1:6, 2)); same_r(array(runif(24), 2:4)); same(as.raw(0:9)); same(list(a = 1, b = list("x", 1:2))); same(.1 + .2)
same(Sys.Date()); same(as.Date(c("2026-01-31", NA, "0001-01-01")))
same_r(structure(c(1700000000.25, NA, -1.5), class = c("POSIXct", "POSIXt"), tzone = "Asia/Kathmandu"))
frame <- data.frame(n = c(1.5, NA, NaN), i = c(1L, NA, -3L), l = c(TRUE, NA, FALSE), s = c("x", NA, ""), stringsAsFactors = FALSE)
frame$f <- factor(c("u", NA, "v"), levels = c("v", "u", "never"), ordered = TRUE)
frame$d <- as.Date(c("2026-01-31", NA, "1969-12-31"))
frame$t <- structure(c(0, NA, 1e9), class = c("POSIXct", "POSIXt"), tzone = "UTC")
frame$lists <- list(1:2, NULL, "x")
row.names(frame) <- c("p", "q", "r")
same_r(frame); same_r(data.frame())
none <- lapidar_call(r, "fit.R:echo", frame[0, ])
stopifnot(nrow(none) == 0, identical(lapply(none, class), lapply(frame, class)))
cat(is.null(lapidar_call(old, "tin:echo", NA_real_)), lapidar_call(old, "tin:named", 1, k = 2L), "\\n")
said("tin:fails"); said("tin:nothing"); said("tin:big"); said("tin:echo", lm); said("time:sleep", 30, .timeout = 0.5)
said("os:_exit", 3L); said("tin:named", 1, k = I(2L)); close(old); said("tin:named")
cat(tryCatch(lapidar_call("nothing", "a:b"), error = conditionMessage), "\\n")
"""


class OfTwoLanguages(Case):
    """Python and R, in one snapshot: each calls the other, and itself."""

    own_cache = True

    def setUp(self) -> None:
        super().setUp()
        if shutil.which("Rscript") is None:
            skip_loudly(self, "there is no R here (Debian's r-base-core)")
        wheels, contrib = self.folder / "wheels", self.folder / "r" / "src" / "contrib"
        wheels.mkdir()
        told = "def echo(x):\n    return x\n\ndef named(x, k=0):\n    return [x, k]\n\ndef big():\n    return 2**60\n"
        wheel(wheels, "tin", "1.0", {"tin.py": told + "\ndef fails():\n    raise ValueError('cold')\n"})
        write_source_package(
            contrib, "ash", "1.0", {"R/fire.R": "fire <- function(x) x * 2\n", "NAMESPACE": "export(fire)\n"}
        )
        write_list(contrib)
        (self.project / "fit.R").write_text(FIT)
        (self.project / "lapidar.toml").write_text(
            f'[index]\nwheels = "{wheels}"\nkilns = {{ address = "{self.folder}/r", language = "r" }}\n'
            '[needs]\npackages = ["tin"]\nr = ["ash"]\n'
        )
        self.lapidar("pin", "--yes")

    def test_functions_of_r(self) -> None:
        with self.assertRaises(lapidar.LapidarError) as asked:
            lapidar.elsewhere(self.lock, project=self.project, cache=self.cache)
        self.assertIn("has Python and R", asked.exception.what)
        with lapidar.elsewhere(self.lock, language="R", project=self.project, cache=self.cache) as old:
            self.assertEqual(old.call("ash:fire", 21), 42)
            self.assertEqual(old.call("stats:quantile", [1.0, 2, 3], probs=[0.1, 0.5]), {"10%": 1.2, "50%": 2.0})
            self.assertEqual(old.call("fit.R:counted"), 1)
            self.assertEqual(old.call("fit.R:counted"), 2, "one process, and a file run once")
            self.assertEqual(
                old.call("fit.R:kinds", 1, 2.5, None, True, "x", [1, None], [1, 2.5], ["x", None], [1, "x"], {"a": 1}, b"x"),
                ["integer integer 1", "numeric double 1", "NULL NULL 0", "logical logical 1", "character character 1",
                 "integer integer 2", "numeric double 2", "character character 2", "list list 2", "list list 1", "raw raw 1"],
            )  # fmt: skip
            for value in (
                None, True, 0, -7, 1.5, -0.0, 1e308, 5e-324, 0.1 + 0.2, math.inf, "", "\u00e4\U0001f3fa\n\"\\\x01", [], {},
                {"a": {"b": [1, "x"]}}, {"$": 1, "b": 2}, b"\x00\xff", datetime.date(2026, 1, 31), [1, None], ["x", None],
                datetime.datetime(1969, 12, 31, 23, 59, 59, 123456, datetime.UTC),
            ):  # fmt: skip
                again = old.call("fit.R:echo", value)
                self.assertEqual((again, type(again)), (value, type(value)))
            for array in (np.arange(6).reshape(2, 3), np.arange(24.0).reshape(2, 3, 4), np.array([True, False])):
                np.testing.assert_array_equal(old.call("fit.R:echo", array), array)
            frame = pd.DataFrame(
                {
                    "number": [1.5, math.nan, -math.inf],
                    "count": [1, 2, -3],
                    "some": pd.array([1, None, 3], dtype="Int64"),
                    "maybe": pd.array([True, None, False], dtype="boolean"),
                    "kiln": pd.Categorical(
                        ["upper", None, "river"], categories=["river", "upper", "never"], ordered=True
                    ),
                    "there": pd.to_datetime(["2026-01-31 12:00:00.5", None, "1969-12-31"], format="ISO8601")
                    .tz_localize("Asia/Kathmandu")
                    .astype("datetime64[us, Asia/Kathmandu]"),
                    "date": [datetime.date(2026, 1, 1), None, datetime.date(1, 1, 1)],
                    "span": pd.to_timedelta([1, 2.5, None], unit="s").astype("timedelta64[us]"),
                    "text": ["\u00e4", None, "long " * 50],
                },
                index=["p", "q", "r"],
            )
            assert_frame_equal(old.call("fit.R:echo", frame), frame)
            empty = old.call("fit.R:echo", frame.iloc[:0])
            self.assertEqual((list(empty), len(empty)), (list(frame), 0))
            named = old.call("fit.R:table_of")
            assert_frame_equal(named, pd.DataFrame({"u": [1, 2], "v": [3, 4]}, index=["a", "b"]))
            for name, args, told in (
                ("fit.R:fails", ["x"], "no such kiln: x"),
                ("fit.R:nothing", [], "'nothing' of mode 'function' was not found"),
                ("nothing.R:f", [], "nothing.R"),
                ("nokiln:x", [], "nokiln"),
                ("fit.R:odd", [], "what it gives is a lm, which does not travel"),
                ("fit.R:echo", [2**70], "which R cannot hold"),
                ("fit.R:echo", ["a\x00b"], "zero byte"),
                ("fit.R:bytes", [], "is no Unicode"),
                ("stats:ts", [[1, 2, 3]], "what it gives is a ts"),
            ):
                with self.assertRaises(CalledFailed) as caught:
                    old.call(name, *args)
                self.assertIn(told, caught.exception.what)
            with self.assertRaises(CalledFailed) as caught:
                old.call("fit.R:fails", "x")
            self.assertIn("in inner(x)", caught.exception.said)
            with self.assertRaises(CalledFailed) as caught:
                old.call("base:quit", "no", 3)
            self.assertIn("(exit code 3)", caught.exception.what)
            self.assertTrue(old.call("base:isTRUE", True), "another process answers what is asked next")
        done = self.lapidar("call", "--in", self.lock, "--language", "r", "fit.R:says")
        self.assertEqual(done.stdout, "true\n")
        self.assertIn("hot", done.stderr)

    def test_from_r(self) -> None:
        self.lapidar("call", "--r-package", "libs/lapidar")
        self.assertIn("something else", self.fails("call", "--r-package", "."))
        self.lapidar("need", "./libs/lapidar", "--yes")
        (self.project / "asks.R").write_text(ASKS)
        said = self.lapidar(
            "run", "Rscript", "asks.R", env={**self.variables, "LAPIDAR_PROGRAM": PROGRAM}
        ).stdout.splitlines()
        self.assertEqual(said[0], "TRUE 1 2 ")
        whole = "\n".join(said)
        for told in (
            "tin:fails failed there: ValueError: cold", "whole number beyond 2^53", "argument[[1]] is a function, which does not",
            "has no attribute 'nothing'", "did not end within 0.5 s", "(exit code 3)", "are closed", "begins with 'nothing'",
        ):  # fmt: skip
            self.assertIn(told, whole)
        self.assertEqual(list(self.project.glob("asked-*")), [])
