"""Pairs of files as the real libraries write them, in tables: which are the same content, which differ, and what must be
said beside a verdict. No verdict of "nothing differs" for what differs."""

from __future__ import annotations

import base64
import contextlib
import gzip
import hashlib
import io
import json
import pickle
import random
import shutil
import sqlite3
import struct
import subprocess
import tempfile
import time
import unittest
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any
from unittest import mock

import h5py
import numpy as np
import openpyxl
import pandas as pd
import pyarrow
import pyarrow.parquet
import scipy.io
from PIL import Image

from lapidar.core.records.declaration import DeclaredAnalysis
from lapidar.core.results import apart as apart_module
from lapidar.core.results import drawing, kinds, tolerances
from lapidar.core.results.apart import Apart
from lapidar.core.results.comparing import Was, compare, compare_all, of_file
from lapidar.core.results.kinds import kind_of, picture, streamed, values
from lapidar.core.results.tolerances import Tolerances
from lapidar.core.results.verdict import BeyondLimit, Compared, Verdict
from support import InFolder, many

SAME, DIFFERENT = "same content", "different"
Form = tuple[str, bytes | str, bytes | str, str, str]  # name, before, after, verdict, what must be said


def data(content: bytes | str) -> bytes:
    return content.encode() if isinstance(content, str) else content


class Forms(InFolder):
    def compared(self, name: str, before: bytes | str, after: bytes | str, **declared: Any) -> Compared:
        """As in a rerun: what was recorded lies in a cache, by its digest, with nothing in its name of what it is."""
        recorded, now = self.recorded(before), self.root / name
        now.parent.mkdir(exist_ok=True)
        files = []
        for path, content in ((recorded, before), (now, after)):
            path.write_bytes(data(content))
            files.append(Was(path, bytes=path.stat().st_size))
        return compare(name, files[0], files[1], tolerances.of(DeclaredAnalysis("a", **declared)))

    def recorded(self, content: bytes | str) -> Path:
        return self.root / hashlib.sha256(data(content)).hexdigest()

    def hold(self, forms: list[Form]) -> None:
        for number, (name, before, after, verdict, said) in enumerate(forms):
            with self.subTest(number=number, name=name, said=said):
                found = self.compared(name, before, after)
                self.assertEqual(str(found.verdict), verdict, found)
                self.assertIn(said, " | ".join((*found.taken, *found.set_aside, found.worst, *found.details)))
                if found.verdict is Verdict.SAME:
                    self.assertTrue(found.set_aside or found.taken, "what was passed over is said")


class Texts(Forms):
    def test_tables_with_days(self) -> None:
        self.hold(
            [
                ("a.csv", "d,v\n2020-01-01,1\n2020-01-02,2\n", "d,v\n2021-01-01,1\n2021-01-02,2\n", DIFFERENT, "2020"),
                ("a.csv", "2020-01-01,1\n2020-01-02,2\n", "2021-01-01,1\n2021-01-02,2\n", DIFFERENT, "2021"),
                ("a.txt", "2020-01-01\t1\n2020-01-02\t2\n", "2020-01-01\t1\n2020-01-03\t2\n", DIFFERENT, "01-03"),
                ("a.csv", "2020-01-01 10:00,1\n2020-01-01 11:00,2\n", "2020-01-01 10:30,1\n2020-01-01 11:00,2\n", DIFFERENT, "10:30"),
                ("a.csv", "2020-01-01 10:00:00,100\n2020-01-01 10:00:01,101\n", "2020-01-01 10:00:00,100\n2020-01-01 10:00:01,201\n", DIFFERENT, "201"),
                ("a.txt", "2020-01-01 1.5\n2020-01-02 2.5\n", "2020-01-01 1.5\n2020-01-03 2.5\n", DIFFERENT, "01-03"),
                ("a.csv", "d;v\n01.02.2020;1,5\n02.02.2020;2,5\n", "d;v\n01.02.2020;1,5\n03.02.2020;2,5\n", DIFFERENT, "03.02"),
                ("a.txt", "made 2020-01-01\nby hand\n", "made 2020-01-02\nby hand\n", DIFFERENT, "2020-01-02"),
            ]
        )  # fmt: skip

    def test_logs(self) -> None:
        log = "2020-01-01 10:00:00,123 INFO read 5 rows\n2020-01-01 10:00:01,200 INFO done on 2019-12-31\n"
        self.hold(
            [
                ("a.log", log, log.replace("10:00:0", "11:30:0"), SAME, "time stamps that lines begin with"),
                ("a.log", log, log.replace("2019-12-31", "2019-12-30"), DIFFERENT, "2019-12-30"),
                ("a.log", log, log.replace("5 rows", "6 rows"), DIFFERENT, "6"),
                ("a.log", log.replace("2020-01-01 ", "[2020-01-01 ").replace(" INFO", "] INFO"), log.replace("2020-01-01 ", "[2020-01-02 ").replace(" INFO", "] INFO"), SAME, "time stamps"),
                ("a.log", "Jan 5 10:00:00 kiln fired at 900\nJan 5 10:01:00 kiln out\n", "Jan 6 10:00:00 kiln fired at 900\nJan 6 10:01:00 kiln out\n", SAME, "time stamps"),
            ]
        )  # fmt: skip

    def test_readings_that_are_found_are_named(self) -> None:
        semicolons, points = "name;tin\nA;3,5\nB;4,5\n", "name,tin\nA,3.5\nB,4.5\n"
        self.hold(
            [
                ("a.csv", semicolons, semicolons.replace("3,5", "3,50"), SAME, "3.5 = 3.50"),
                ("a.csv", semicolons, semicolons.replace("3,5", "3,50"), SAME, "decimal commas"),
                ("a.csv", semicolons, semicolons.replace("4,5", "4,6"), DIFFERENT, "0.1"),
                ("a.csv", semicolons, points, SAME, "cells parted by semicolons, decimal commas; the other cells parted by commas"),
                ("a.csv", points, points.replace(",", "\t"), SAME, "tabs"),
                ("a.csv", points, points.replace(",", "\t").replace("4.5", "4.6"), DIFFERENT, "4.6"),
                ("a.csv", points, points.encode("utf-16"), SAME, "utf-16"),
                ("a.csv", points, points.replace("4.5", "4.25").encode("utf-16"), DIFFERENT, "4.25"),
                ("a.csv", points, b"\xef\xbb\xbf" + points.encode(), SAME, "utf-8-sig"),
                ("a.csv", points, points.replace("\n", "\r\n"), SAME, "how lines end"),
                ("a.csv", points, points.replace("4.5", "4.50"), SAME, "row 3, tin: 4.5 = 4.50"),
                ("a.csv", points, points.replace("4.5", "45e-1"), SAME, "4.5 = 45e-1"),
                ("a.txt", "ä 1\nb 2\n".encode("utf-16"), "ä 1\nb 3\n".encode("utf-16"), DIFFERENT, "line 2"),
                ("a.txt", "ä 1\nb 2\n", "ä 1\nb 2\n".encode("utf-16"), SAME, "utf-16"),
                ("a.txt", "one\ntwo\n", "one\r\ntwo", SAME, "how lines end"),
                ("a.csv", "id,n\n007,1\n008,2\n", "id,n\n7,1\n8,2\n", DIFFERENT, "007"),
            ]
        )  # fmt: skip

    def test_what_is_declared_holds(self) -> None:
        def verdict(before: bytes | str, after: bytes | str, **reading: Any) -> str:
            return str(self.compared("r/a.csv", before, after, reading={"r/*.csv": reading}).verdict)

        (self.root / "before/r").mkdir(parents=True)
        (self.root / "after/r").mkdir(parents=True)
        versions = "name,version\nA,1.10\nB,1E5\n"
        self.assertEqual(verdict(versions, versions.replace("1.10", "1.1")), SAME)
        self.assertEqual(verdict(versions, versions.replace("1.10", "1.1"), text=["version"]), DIFFERENT)
        self.assertEqual(verdict(versions, versions.replace("1E5", "100000"), text=["ver*"]), DIFFERENT)
        latin = "name;höhe\nä;1,5\n".encode("latin-1")
        self.assertEqual(verdict(latin, "name;höhe\nä;1,50\n", encoding=""), DIFFERENT)
        self.assertEqual(verdict(latin, latin.replace(b"1,5", b"1,50"), encoding="latin-1"), SAME)
        self.assertEqual(verdict("a|b\n1|2\n", "a|b\n1|3\n", delimiter="|"), DIFFERENT)
        self.assertEqual(verdict("n,v\nA,1\nB,2\n", "n,v\nB,2\nA,1\n", key=["n"]), DIFFERENT)
        self.assertEqual(
            verdict("2020-01-01 a\n2020-01-02 b\n", "2021-01-01 a\n2021-01-02 b\n", kind="text"), DIFFERENT
        )
        self.assertEqual(verdict("1,5\n2,5\n", "1,50\n2,5\n", kind="table", delimiter=";", decimal=","), SAME)
        for bad in (
            {"kind": "nothing"},
            {"delimiter": "ab"},
            {"decimal": ";"},
            {"encoding": "klingon"},
            {"delimiter": ",", "decimal": ","},
        ):
            with self.assertRaisesRegex(Exception, "makes no sense"):
                verdict("a", "b", **bad)


class Values(Forms):
    def test_json(self) -> None:
        self.hold(
            [
                ("a.json", '{"id": "007"}', '{"id": "7"}', DIFFERENT, "007"),
                ("a.json", '{"v": "1.10"}', '{"v": "1.1"}', DIFFERENT, "1.10"),
                ("a.json", '{"v": "1"}', '{"v": 1}', DIFFERENT, "1"),
                ("a.json", '{"a": 1, "b": 2}', '{"b": 2, "a": 1}', SAME, "order of keys"),
                ("a.json", '{"a": 1, "a": 2}', '{"a": 3, "a": 2}', DIFFERENT, "a"),
                ("a.json", '{"a": 1, "a": 2}', '{"a": 2}', DIFFERENT, "a (1)"),
                ("a.json", '{"a": 1}', '{"a": 1.0}', SAME, "1 = 1.0"),
                ("a.json", '{"a": 1e400}', '{"a": 1.1e400}', DIFFERENT, "a"),
                ("a.json", '{"a": 0.1000000000000000055}', '{"a": 0.1}', DIFFERENT, "a"),
                ("a.json", '{"a": true}', '{"a": 1}', DIFFERENT, "a"),
                ("a.json", '{"a": null}', '{"a": 0}', DIFFERENT, "a"),
                ("a.json", '{"a": NaN}', '{"a": 0.0}', DIFFERENT, "a"),
                ("a.json", '{"a": -0.0}', '{"a": 0.0}', DIFFERENT, "a"),
                ("a.json", '{"a": 9007199254740993}', '{"a": 9007199254740992}', DIFFERENT, "a"),
                ("a.jsonl", '{"a": 1e400}\n{"a": 1}\n', '{"a": 1.1e400}\n{"a": 1}\n', DIFFERENT, "line 1"),
                ("a.jsonl", '{"a": "01"}\n{"a": 1}\n', '{"a": "1"}\n{"a": 1}\n', DIFFERENT, "line 1"),
                ("a.toml", 'a = "007"\n', 'a = "7"\n', DIFFERENT, "007"),
                ("a.yaml", "a: '007'\n", "a: '7'\n", DIFFERENT, "007"),
                ("a.yaml", "a: 1\nb: 2\n", "b: 2\na: 1\n", SAME, "order of keys"),
            ]
        )  # fmt: skip

    def test_json_in_windows(self) -> None:
        """A text larger than what is held at once gives what a small one does."""
        self.enterContext(mock.patch.object(streamed, "_PIECE", 7))
        self.enterContext(mock.patch.object(streamed, "_WINDOW", 40))
        chance = random.Random(20261129)

        def some(depth: int) -> Any:
            kind = chance.randrange(7 if depth < 4 else 5)
            if kind == 5:
                return [some(depth + 1) for _ in range(chance.randrange(6))]
            if kind == 6:
                return {f"k{n}": some(depth + 1) for n in range(chance.randrange(5))}
            return (chance.randrange(10**6), chance.random(), 'Töpfe 陶 \\n"', None, True)[kind]

        def changed(value: Any) -> Any:
            if isinstance(value, list) and value:
                at = chance.randrange(len(value))
                return [*value[:at], changed(value[at]), *value[at + 1 :]] if chance.random() < 0.8 else value[:-1]
            if isinstance(value, dict) and value:
                key = chance.choice(list(value))
                return {**value, key: changed(value[key])}
            return 7 if value == 8 else 8

        for _ in range(many(1500, 300)):
            one = [some(0) for _ in range(6)]
            other = changed(one) if chance.random() < 0.8 else one
            texts = [
                json.dumps(side, ensure_ascii=chance.random() < 0.5, indent=chance.choice((None, 2)))
                for side in (one, other)
            ]
            plain = self.compared("a.json", *texts)
            with mock.patch.object(values, "_MOST_AT_ONCE", 0):
                found = self.compared("a.json", *texts)
            if "another form" in found.worst or "more before" in found.worst or "more after" in found.worst:
                self.assertEqual(plain.verdict, Verdict.DIFFERENT)
                continue
            self.assertEqual((found.verdict, found.details), (plain.verdict, plain.details), texts)

    def test_json_that_breaks_off(self) -> None:
        self.enterContext(mock.patch.object(values, "_MOST_AT_ONCE", 0))
        whole = json.dumps([{"tin": n / 7, "name": f"S{n}"} for n in range(50)])
        for cut in range(1, len(whole), 17):
            self.assertFalse(self.compared("a.json", whole, whole[:cut]).verdict.is_good, cut)
        for wrong in (whole + "x", whole.replace(",", ";", 1), "", "[" * 5000, '{"a": 1 "b": 2}'):
            self.assertFalse(self.compared("a.json", whole, wrong).verdict.is_good)
        self.assertIn("another order", self.compared("a.json", '{"a": 1, "b": 2}', '{"b": 2, "a": 1}').worst)

    def test_documents(self) -> None:
        svg = '<svg xmlns="http://www.w3.org/2000/svg"><metadata><dc:date xmlns:dc="d">2020-01-01</dc:date></metadata><g/></svg>'
        self.hold(
            [
                ("a.xml", "<r><date>2020-01-01</date></r>", "<r><date>2020-01-02</date></r>", DIFFERENT, "2020-01-02"),
                ("a.xml", "<r><created>2020-01-01</created></r>", "<r><created>2020-01-02</created></r>", DIFFERENT, "2020-01-02"),
                ("a.xml", "<r><a> x </a></r>", "<r>\n <a>x</a>\n</r>", SAME, "white space"),
                ("a.svg", svg, svg.replace("2020", "2021"), SAME, "when it was written"),
                ("a.html", "<html><pre>a  b</pre></html>", "<html><pre>a b</pre></html>", DIFFERENT, "a  b"),
                ("a.html", "<html><pre>a\n\n</pre></html>", "<html><pre>a\n</pre></html>", DIFFERENT, "pre"),
                ("a.html", "<html><p>a  b</p></html>", "<html>\n<p>a b</p></html>", SAME, "white space"),
            ]
        )  # fmt: skip

    def test_places_in_brackets(self) -> None:
        before, after = '{"fit": {"n": [{"tin": 1.0}, {"tin": 1.0}]}}', '{"fit": {"n": [{"tin": 1.01}, {"tin": 1.0}]}}'
        for pattern, verdict in (
            ("fit.n[0].tin", "within tolerance"),
            ("fit.n[1].tin", DIFFERENT),
            ("fit.n[*].tin", "within tolerance"),
            ("fit.n[?].tin", "within tolerance"),
            ("tin", "within tolerance"),
        ):
            found = self.compared("a.json", before, after, tolerance={f"a.json:{pattern}": {"absolute": 0.1}})
            self.assertEqual(str(found.verdict), verdict, pattern)
        exact = {"a.json": {"absolute": 0.1}, "a.json:fit.n[0].tin": {"absolute": 0}}
        self.assertEqual(str(self.compared("a.json", before, after, tolerance=exact).verdict), DIFFERENT)
        ignored = self.compared("a.json", before, after, ignore=("a.json:fit.n[0].tin",))
        self.assertEqual((str(ignored.verdict), ignored.set_aside), (SAME, ("fit.n[0].tin",)))
        table = self.compared("a.csv", "a,b\n1,2\n", "a,b\n1,3\n", ignore=("a.csv:b",))
        self.assertEqual((str(table.verdict), table.set_aside), (SAME, ("column b",)))


class Rules(Forms):
    def test_a_rule_that_fits_nothing_is_told(self) -> None:
        table, values = ("n,tin\nA,1.5\n", "n,tin\nA,2.5\n"), ('{"fit": {"tin": 1.5}}', '{"fit": {"tin": 2.5}}')
        for name, (before, after) in (("a.csv", table), ("a.json", values)):
            idle = self.compared(name, before, after, tolerance={f"{name}:lead": {"absolute": 9}})
            self.assertIn("the rule for 'lead' fits nothing in it", idle.taken)
            used = self.compared(name, before, after, tolerance={f"{name}:tin": {"absolute": 9}})
            self.assertEqual((str(used.verdict), used.taken), ("within tolerance", ()))
        wrong = self.compared("a.csv", *table, reading={"a.csv": {"text": ["code"]}}, ignore=("a.csv:led",))
        self.assertEqual({"code", "led"}, {line.split("'")[1] for line in wrong.taken})
        rules = tolerances.of(DeclaredAnalysis("a", tolerance={"*.tsv": {"absolute": 1}, "*.csv": {"absolute": 1}}))
        self.assertEqual(rules.idle(["r/a.csv"]), ["*.tsv"])


class Measures(Forms):
    def numbers(self, name: str, before: bytes | str, after: bytes | str) -> Any:
        found = self.compared(name, before, after)
        self.assertEqual(str(found.verdict), DIFFERENT)
        return found

    def test_steps_of_the_own_type(self) -> None:
        for kind in ("f2", "f4", "f8"):
            for value in (1.0, -3.0, 0.1, 6e-5):
                one = np.array([value, 0.5], kind)
                other = one.copy()
                for _ in range(3):
                    other[0] = np.nextafter(other[0], np.array(9, kind)[()])
                self.assertEqual(self.numbers("a.npy", npy(one), npy(other)).numbers.ulps, 3, (kind, value))

    def test_last_places_of_texts(self) -> None:
        """The same for one pair as for many at once."""
        for before, after, ulps in (
            ("3.14", "3.15", 1), ("3.14", "3.1", 4), ("10", "12", 2), ("1.5e3", "1.7e3", 2), ("0.001", "0.004", 3),
            ("0.1", "0.10000000000000002", 1), ("-2.50", "-2.53", 3), ("1e-5", "3e-5", 2),
        ):  # fmt: skip
            for rows in (1, 80):
                tables = ["n,v\n" + "".join(f"A{row},{value}\n" for row in range(rows)) for value in (before, after)]
                found = self.numbers("a.csv", *tables).numbers
                self.assertAlmostEqual(found.ulps, ulps, 6, (before, after, rows))
                self.assertEqual(found.differing, rows)

    def test_each_measure_has_its_place(self) -> None:
        found = self.numbers(
            "a.csv", "n,v\na,1000.0\nb,0.001\nc,5.00000001\n", "n,v\na,1010.0\nb,0.002\nc,5.00000009\n"
        )
        self.assertEqual(
            (found.numbers.at_absolute, found.numbers.at_relative, found.numbers.at_ulps),
            ("row 2, v", "row 3, v", "row 2, v"),
        )
        self.assertEqual(found.worst, "10 at row 2, v; 0.5 relative at row 3, v; 100 ulps at row 2, v")

    def test_distances_beyond_all_numbers(self) -> None:
        for found in (
            self.numbers("a.csv", "v,w\n1e308,1\n", "v,w\n-1e308,1\n"),
            self.numbers("a.npy", npy(np.array([1e308])), npy(np.array([-1e308]))),
            self.numbers("a.json", '{"a": 1e308}', '{"a": -1e308}'),
        ):
            self.assertNotIn("against none", found.worst)
            self.assertEqual(found.numbers.relative, 2.0)
        for found in (
            self.numbers("a.csv", "v,w\n0.0,1\n", "v,w\nnan,1\n"),
            self.numbers("a.npy", npy(np.array([0.0])), npy(np.array([np.nan]))),
            self.numbers("a.json", '{"a": 0.0}', '{"a": NaN}'),
        ):
            self.assertIn("a number against none", found.worst)
            self.assertEqual((found.numbers.relative, found.numbers.against_none), (float("inf"), 1))
        self.numbers("a.csv", "v,w\n1e400,1\n", "v,w\n1.1e400,1\n")


def npy(array: Any) -> bytes:
    stream = io.BytesIO()
    np.save(stream, array)
    return stream.getvalue()


class Rows(Forms):
    def table(self, *, key: bool) -> list[str]:
        chance = random.Random(7)
        return [
            f"{f'S{row},' if key else ''}{chance.random():.4f},{chance.random():.4f},{chance.randrange(5)}"
            for row in range(1000)
        ]

    def differing(self, before: list[str], after: list[str], *, key: bool) -> Compared:
        head = ("name," if key else "") + "tin,lead,kiln"
        return self.compared("a.csv", *("\n".join([head, *lines]) + "\n" for lines in (before, after)))

    def test_a_row_that_is_gone_or_new(self) -> None:
        for key in (False, True):
            rows = self.table(key=key)
            for at in (0, 15, 500, 999):
                found = self.differing(rows, rows[:at] + rows[at + 1 :], key=key)
                self.assertEqual(found.more, 0)
                self.assertEqual([line.split(" (")[0] + line[-4:] for line in found.details], [f"row {at + 2}gone"])
                found = self.differing(rows[:at] + rows[at + 1 :], rows, key=key)
                self.assertEqual([line.split(" (")[0] + line[-3:] for line in found.details], [f"row {at + 2}new"])

    def test_several_at_once(self) -> None:
        rows = self.table(key=False)
        after = [row for at, row in enumerate(rows) if at not in (17, 400, 401)]
        after[600] = after[600][:-1] + "9"
        after.insert(900, "9.0,9.0,9")
        found = self.differing(rows, after, key=False)
        self.assertEqual(
            [line.split(" (")[0].split(":")[0] for line in found.details],
            ["row 19", "row 402", "row 403", "row 605, kiln", "row 902"],
        )

    def test_rows_that_stand_there_twice(self) -> None:
        rows = ["1.5,2.5,1"] * 3 + ["1.5,2.5,2", "2.5,2.5,2"]
        found = self.differing(rows, rows[1:], key=False)
        self.assertEqual(found.details, ("row 4 (tin 1.5, lead 2.5, kiln 1): gone",))

    def test_a_column_with_another_name(self) -> None:
        rows = "\n".join(self.table(key=True)) + "\n"
        found = self.compared("a.csv", "name,tin,lead,kiln\n" + rows, "name,tin,pb,kiln\n" + rows)
        self.assertEqual(found.details, ("column lead: it is called pb now",))

    def test_against_every_edit(self) -> None:
        """What is told leads from the one to the other: every row that is gone or new is named, and no other."""
        for seed in range(200):
            chance = random.Random(seed)
            before = [f"{chance.randrange(4)}.5,{chance.randrange(3)}" for _ in range(chance.randrange(2, 14))]
            after = [row for row in before if chance.random() > 0.2]
            for _ in range(chance.randrange(3)):
                after.insert(chance.randrange(len(after) + 1), f"{chance.randrange(9)}.5,7")
            if after == before or len(after) < 2:
                continue
            found = self.compared("a.csv", "\n".join(["a,b", *before, ""]), "\n".join(["a,b", *after, ""]))
            self.assertEqual(str(found.verdict), DIFFERENT, (before, after))
            gone = sum(line.endswith("gone") for line in found.details)
            new = sum(line.endswith("new") for line in found.details)
            if "another order" not in found.worst:
                self.assertEqual(len(before) - gone + new, len(after), (before, after, found.details))


class Pictures(Forms):
    def test_by_sample(self) -> None:
        grey16: Any = np.arange(64 * 64, dtype=np.uint16).reshape(64, 64) * 8
        rgb: Any = np.zeros((16, 16, 3), dtype=np.uint8)
        forms: list[Form] = []
        for kind in ("PNG", "TIFF"):
            forms.append((f"a.{kind.lower()}", image(grey16, kind), image(grey16 + 200, kind), DIFFERENT, "200"))
        forms.append(
            ("a.png", png16(rgb.astype(np.uint16) + 1000), png16(rgb.astype(np.uint16) + 1200), DIFFERENT, "200")
        )
        forms.append(
            ("a.tiff", tiff(np.zeros((8, 8, 5), np.uint16)), tiff(np.full((8, 8, 5), 7, np.uint16)), DIFFERENT, "7")
        )
        forms.append(("a.tiff", tiff(np.zeros((8, 8))), tiff(np.full((8, 8), 1e-9)), DIFFERENT, "1e-09"))
        forms.append(("a.png", image(rgb, "PNG"), image(rgb, "PNG", compress_level=0), SAME, "packed"))
        forms.append(("a.png", image(rgb, "PNG"), image(rgb, "PNG", dpi=(30, 30)), SAME, "beside the pixels"))
        grey = Image.new("L", (4, 4), 100)
        clear = grey.copy()
        forms.append(("a.png", saved(grey, "PNG"), saved(clear, "PNG", transparency=100), DIFFERENT, "transparency"))
        forms.append(("a.png", saved(grey, "PNG"), with_gamma(saved(grey, "PNG")), DIFFERENT, "gamma"))
        frames = [Image.new("L", (4, 4), value) for value in (0, 100, 200)]
        slow, fast = (
            saved(frames[0], "GIF", save_all=True, append_images=frames[1:], duration=time) for time in (500, 100)
        )
        forms.append(("a.gif", slow, fast, DIFFERENT, "duration"))
        turned = Image.Exif()
        turned[0x0112] = 6
        forms.append(("a.jpg", saved(grey, "JPEG"), saved(grey, "JPEG", exif=turned), DIFFERENT, "orientation"))
        self.hold(forms)

    def test_large_ones_say_the_same(self) -> None:
        """Of two large pictures one is kept in a file while the other is decoded."""
        chance = np.random.default_rng(20261129)
        for mode, shape in (
            ("L", (600, 9)),
            ("RGB", (600, 9, 3)),
            ("RGBA", (300, 7, 4)),
            ("P", (40, 9)),
            ("I;16", (520, 5)),
        ):
            pixels: Any = chance.integers(
                0, 60000 if mode == "I;16" else 250, shape, np.uint16 if mode == "I;16" else np.uint8
            )
            other = pixels.copy()
            other[3, 4] += 1
            other[-1, 0] += 3
            form = "TIFF" if mode == "I;16" else "PNG"
            for after in (pixels, other):
                pair = f"a.{form.lower()}", image(pixels, form), saved(Image.fromarray(after), form, dpi=(72, 72))
                plain = self.compared(*pair)
                with mock.patch.object(picture, "_LARGE", 0):
                    found = self.compared(*pair)
                self.assertEqual((found.verdict, found.details), (plain.verdict, plain.details), mode)
                self.assertEqual(plain.verdict, Verdict.DIFFERENT if after is other else Verdict.SAME)

    def test_places_on_a_map(self) -> None:
        tags = {33550: (12, (30.0, 30.0, 0.0)), 33922: (12, (0.0, 0.0, 0.0, 500000.0, 4e6, 0.0))}
        moved = {**tags, 33922: (12, (0.0, 0.0, 0.0, 500030.0, 4e6, 0.0))}
        pixels = Image.new("F", (4, 4), 1.5)
        self.hold([("a.tiff", tagged(pixels, tags), tagged(pixels, moved), DIFFERENT, "500030")])


def image(pixels: Any, form: str, **options: Any) -> bytes:
    return saved(Image.fromarray(pixels), form, **options)


def saved(picture: Image.Image, form: str, **options: Any) -> bytes:
    stream = io.BytesIO()
    picture.save(stream, form, **options)
    return stream.getvalue()


def tagged(picture: Image.Image, tags: dict[int, tuple[int, Any]]) -> bytes:
    from PIL.TiffImagePlugin import ImageFileDirectory_v2

    info = ImageFileDirectory_v2()
    for number, (kind, value) in tags.items():
        info.tagtype[number] = kind
        info[number] = value
    return saved(picture, "TIFF", tiffinfo=info)


def png_chunk(kind: bytes, content: bytes) -> bytes:
    return struct.pack(">I", len(content)) + kind + content + struct.pack(">I", zlib.crc32(kind + content))


def png16(pixels: Any) -> bytes:
    """A PNG of 16 bits a sample and three channels, which few libraries write."""
    height, width, _ = pixels.shape
    rows = b"".join(b"\0" + row.astype(">u2").tobytes() for row in pixels)
    head = struct.pack(">IIBBBBB", width, height, 16, 2, 0, 0, 0)
    chunks = png_chunk(b"IHDR", head) + png_chunk(b"IDAT", zlib.compress(rows)) + png_chunk(b"IEND", b"")
    return b"\x89PNG\r\n\x1a\n" + chunks


def with_gamma(png: bytes) -> bytes:
    return png[:33] + png_chunk(b"gAMA", struct.pack(">I", 45455)) + png[33:]


def tiff(samples: Any) -> bytes:
    """A TIFF of any number of channels and any type, not packed."""
    kinds = {"u": 1, "i": 2, "f": 3}
    channels = samples.shape[2] if samples.ndim == 3 else 1
    body = bytes(np.ascontiguousarray(samples).astype(samples.dtype.newbyteorder("<")).tobytes())
    bits = samples.dtype.itemsize * 8
    extra = struct.pack(f"<{channels}H", *[bits] * channels)
    forms = struct.pack(f"<{channels}H", *[kinds[samples.dtype.kind]] * channels)
    at = 8 + len(body)
    listed = [
        (256, 4, 1, samples.shape[1]), (257, 4, 1, samples.shape[0]),
        (258, 3, channels, at if channels > 2 else bits), (259, 3, 1, 1), (262, 3, 1, 1), (273, 4, 1, 8),
        (277, 3, 1, channels), (278, 4, 1, samples.shape[0]), (279, 4, 1, len(body)),
        (338, 3, channels - 1, 0) if 1 < channels < 3 else None,
        (339, 3, channels, at + len(extra) if channels > 2 else kinds[samples.dtype.kind]),
    ]  # fmt: skip
    entries = [entry for entry in listed if entry]
    directory = struct.pack("<H", len(entries)) + b"".join(struct.pack("<HHII", *entry) for entry in entries)
    return b"II*\0" + struct.pack("<I", at + len(extra) + len(forms)) + body + extra + forms + directory + b"\0" * 4


def fits(
    when: str = "2026-01-01",
    ulp: bool = False,
    card: tuple[str, float, str] = ("TIN", 0.25, "of all"),
    text: str = "S2",
    ragged: tuple[float, ...] = (1.5, 2.5),
    more: bool = False,
) -> bytes:
    from astropy.io import fits as library

    pixels: Any = np.arange(12, dtype=np.float32).reshape(4, 3)
    if ulp:
        pixels[2, 1] = np.nextafter(pixels[2, 1], np.float32(99))
    picture = library.ImageHDU(pixels, name="GLAZE")
    picture.header[card[0]] = card[1:]
    columns = [
        library.Column("sherd", "4A", array=np.array(["S1", text])),
        library.Column("peaks", "PD()", array=np.array([np.array(ragged), np.array([3.5])], dtype=object)),
    ]
    units = [library.PrimaryHDU(), picture, library.BinTableHDU.from_columns(columns, name="SHERDS")]
    units += [library.ImageHDU(pixels)] if more else []
    units[0].header["DATE"] = when
    stream = io.BytesIO()
    library.HDUList(units).writeto(stream)
    return stream.getvalue()


def nifti(ulp: bool = False, kind: str = "f4", scale: float = 1.0, note: str = "", place: float = 0.0) -> bytes:
    import nibabel

    samples: Any = np.arange(24, dtype=kind).reshape(2, 3, 4)
    if ulp:
        samples[1, 2, 0] = np.nextafter(samples[1, 2, 0], np.float32(99))
    affine = np.eye(4)
    affine[0, 3] = place
    picture = nibabel.Nifti1Image(samples, affine)
    picture.header.set_slope_inter(scale, 0)
    if note:
        picture.header.extensions.append(nibabel.nifti1.Nifti1Extension("comment", note.encode()))
    return bytes(picture.to_bytes())


def dicom(
    name: str = "KILN1", pixel: int = 3, spacing: float = 0.25, inner: str = "S7", writer: str = "LAPIDAR"
) -> bytes:
    from pydicom.dataset import Dataset, FileMetaDataset
    from pydicom.uid import ExplicitVRLittleEndian, SecondaryCaptureImageStorage

    item, whole = Dataset(), Dataset()
    item.StudyID = inner
    whole.file_meta = FileMetaDataset()
    whole.file_meta.TransferSyntaxUID = ExplicitVRLittleEndian
    whole.file_meta.MediaStorageSOPClassUID = whole.SOPClassUID = SecondaryCaptureImageStorage
    whole.file_meta.MediaStorageSOPInstanceUID = whole.SOPInstanceUID = "1.2.3"
    whole.file_meta.ImplementationClassUID, whole.file_meta.ImplementationVersionName = "1.2.4", writer
    whole.PatientID, whole.PixelSpacing, whole.ReferencedImageSequence = name, [0.5, spacing], [item]
    whole.Rows, whole.Columns, whole.BitsAllocated, whole.SamplesPerPixel = 2, 2, 16, 1
    whole.add_new("PixelData", "OW", np.array([0, 1, 2, pixel], "<u2").tobytes())
    stream = io.BytesIO()
    whole.save_as(stream, enforce_file_format=True)
    return stream.getvalue()


class Stores(Forms):
    def test_pickles(self) -> None:
        one, other = {"a": [1, 2.5, "x"], "b": (None, True)}, {"a": [1, 2.5, "y"], "b": (None, True)}
        several = pickle.dumps(one) + pickle.dumps(1), pickle.dumps(one) + pickle.dumps(2)
        array = np.arange(6.0)
        forms: list[Form] = [("a.pkl", pickle.dumps(one), pickle.dumps(other), DIFFERENT, "y")]
        forms += [("a.pkl", *several, DIFFERENT, "2")]
        forms += [("a.pkl", pickle.dumps(one), pickle.dumps(one) * 2, DIFFERENT, "")]
        for protocol in (0, 1, 2, 3, 5):
            forms.append(("a.pkl", pickle.dumps(one, 4), pickle.dumps(one, protocol), SAME, "protocol"))
            forms.append(("a.pkl", pickle.dumps(one, 4), pickle.dumps(other, protocol), DIFFERENT, "y"))
        forms.append(("a.pkl", pickle.dumps(array), pickle.dumps(array + 1), DIFFERENT, ""))
        shared = [1, 2]
        forms.append(("a.pkl", pickle.dumps([shared, shared]), pickle.dumps([[1, 2], [1, 2]]), DIFFERENT, ""))
        self.hold(forms)

    def test_pickles_of_times(self) -> None:
        days = [np.array([f"2020-01-0{day}"], "M8[D]") for day in (1, 2)]
        frames = [pd.DataFrame({"d": pd.to_datetime([f"2020-01-0{day}"]), "s": ["x"]}) for day in (1, 2)]
        pickled = [pickle.dumps(one) for one in (*days, *frames)]
        self.hold(
            [
                ("a.pkl", pickled[0], pickled[1], DIFFERENT, "2020-01-02"),
                ("a.pkl", pickled[2], pickled[3], DIFFERENT, "2020-01-02"),
                ("a.pkl", pickle.dumps({"b", "a"}, 4), pickle.dumps({"a", "b"}, 2), SAME, "protocol"),
            ]
        )

    def test_documents_of_other_writers(self) -> None:
        def pdf(text: str, day: str) -> bytes:
            stream = base64.a85encode(zlib.compress(f"BT ({text}) Tj ET".encode()), adobe=False) + b"~>"
            return (
                b"%PDF-1.4\n1 0 obj\n<< /Filter [ /ASCII85Decode /FlateDecode ] /Length "
                + str(len(stream)).encode() + b" >>\nstream\n" + stream + b"\nendstream\nendobj\n2 0 obj\n<< /CreationDate (D:"
                + day.encode() + b") >>\nendobj\ntrailer\n<< /Root 1 0 R >>\n%%EOF\n"
            )  # fmt: skip

        def package(stamp: str, name: str) -> bytes:
            path = self.root / "made.gpkg"
            path.unlink(missing_ok=True)
            with contextlib.closing(sqlite3.connect(path)) as database:
                database.execute("CREATE TABLE gpkg_contents (table_name TEXT PRIMARY KEY, last_change TEXT)")
                database.execute("INSERT INTO gpkg_contents VALUES (?, ?)", (name, stamp))
                database.commit()
            return path.read_bytes()

        self.hold(
            [
                ("a.pdf", pdf("lead 4.5", "20200101"), pdf("lead 4.5", "20210101"), SAME, "dates"),
                ("a.pdf", pdf("lead 4.5", "20200101"), pdf("lead 4.6", "20200101"), DIFFERENT, "0.1"),
                ("a.gpkg", package("2020", "sherds"), package("2021", "sherds"), SAME, "last_change"),
                ("a.gpkg", package("2020", "sherds"), package("2020", "kilns"), DIFFERENT, "kilns"),
            ]
        )

    def test_hdf5(self) -> None:
        def file(write: Callable[[Any], None]) -> bytes:
            stream = io.BytesIO()
            with h5py.File(stream, "w") as target:
                target["x"], target["y"] = [1, 2, 3], [1, 2, 3]
                write(target)
            return stream.getvalue()

        def reference(to: str) -> bytes:
            return file(lambda f: f.create_dataset("r", data=f[to].ref, dtype=h5py.ref_dtype))

        def region(most: int) -> bytes:
            return file(lambda f: f.create_dataset("r", data=f["x"].regionref[:most], dtype=h5py.regionref_dtype))

        def enumeration(names: dict[str, int]) -> bytes:
            return file(lambda f: f.create_dataset("e", data=[0, 1], dtype=h5py.enum_dtype(names, "i")))

        def empty(kind: str) -> bytes:
            return file(lambda f: f.create_dataset("z", data=h5py.Empty(kind)))

        def attribute(value: Any) -> bytes:
            return file(lambda f: f["x"].attrs.__setitem__("unit", value))

        self.hold(
            [
                ("a.h5", reference("x"), reference("y"), DIFFERENT, "r"),
                ("a.h5", region(1), region(2), DIFFERENT, "r"),
                ("a.h5", enumeration({"A": 0, "B": 1}), enumeration({"A": 1, "B": 0}), DIFFERENT, "e"),
                ("a.h5", empty("f4"), empty("f8"), DIFFERENT, "z"),
                ("a.h5", attribute("mm"), attribute("cm"), DIFFERENT, "cm"),
                ("a.h5", attribute("007"), attribute("7"), DIFFERENT, "007"),
                ("a.h5", file(lambda f: f.create_dataset("p", data=[1.5], compression="gzip", chunks=True)), file(lambda f: f.create_dataset("p", data=[1.5])), SAME, "packed"),
            ]
        )  # fmt: skip

    def test_columns(self) -> None:
        def parquet(frame: Any, **options: Any) -> bytes:
            stream = io.BytesIO()
            frame.to_parquet(stream, **options)
            return stream.getvalue()

        def arrow(array: Any) -> bytes:
            stream = io.BytesIO()
            pyarrow.parquet.write_table(pyarrow.table({"t": array}), stream)
            return stream.getvalue()

        zeros = pd.DataFrame({"a": [0.0, 1.0]}), pd.DataFrame({"a": [-0.0, 1.0]})
        keyed = pd.DataFrame({"a": [1, 2], "b": [3, 4]})
        times = [pyarrow.array([1_600_000_000_000_000_000 + step], pyarrow.timestamp("ns")) for step in (1, 2)]
        self.hold(
            [
                ("a.parquet", parquet(zeros[0]), parquet(zeros[1]), DIFFERENT, "a"),
                ("a.parquet", parquet(keyed), parquet(keyed.set_index("a")), DIFFERENT, "index"),
                ("a.parquet", arrow(times[0]), arrow(times[1]), DIFFERENT, "t"),
                ("a.parquet", parquet(keyed), parquet(keyed, compression="gzip"), SAME, "packed"),
            ]
        )

    def test_archives(self) -> None:
        import tarfile

        def tar(target: str) -> bytes:
            stream = io.BytesIO()
            with tarfile.open(fileobj=stream, mode="w") as archive:
                for name, content in (("a.txt", b"1"), ("b.txt", b"2")):
                    member = tarfile.TarInfo(name)
                    member.size = len(content)
                    archive.addfile(member, io.BytesIO(content))
                link = tarfile.TarInfo("newest")
                link.type, link.linkname = tarfile.SYMTYPE, target
                archive.addfile(link)
            return stream.getvalue()

        def zipped(mode: int) -> bytes:
            stream = io.BytesIO()
            with zipfile.ZipFile(stream, "w") as archive:
                member = zipfile.ZipInfo("newest")
                member.external_attr = mode << 16
                archive.writestr(member, "a.txt")
            return stream.getvalue()

        self.hold(
            [
                ("a.tar", tar("a.txt"), tar("b.txt"), DIFFERENT, "newest"),
                ("a.zip", zipped(0o120777), zipped(0o100644), DIFFERENT, "newest"),
            ]
        )

    def test_workbooks(self) -> None:
        def book(change: Callable[[Any], None] = lambda sheet: None) -> bytes:
            workbook = openpyxl.Workbook()
            sheet = workbook.active
            sheet.append(["name", "tin"])
            sheet.append(["A", 0.25])
            change(sheet)
            stream = io.BytesIO()
            workbook.save(stream)
            return stream.getvalue()

        def comment(sheet: Any) -> None:
            sheet["A1"].comment = openpyxl.comments.Comment("doubtful", "me")

        def hide(sheet: Any) -> None:
            sheet.sheet_state = "hidden"
            sheet.parent.create_sheet("x")

        def chart(kind: str) -> Callable[[Any], None]:
            def add(sheet: Any) -> None:
                from openpyxl import chart as charts

                one = getattr(charts, kind)()
                one.add_data(charts.Reference(sheet, min_col=2, min_row=1, max_row=2))
                sheet.add_chart(one, "E5")

            return add

        self.hold(
            [
                ("a.xlsx", book(), book(lambda s: setattr(s["B2"], "number_format", "0.0%")), DIFFERENT, "0.0%"),
                ("a.xlsx", book(), book(hide), DIFFERENT, ""),
                ("a.xlsx", book(), book(comment), DIFFERENT, "comment"),
                ("a.xlsx", book(chart("BarChart")), book(chart("LineChart")), DIFFERENT, "chart"),
                ("a.xlsx", book(), book(lambda s: setattr(s["B2"], "value", "0.25")), DIFFERENT, "row 2"),
            ]
        )  # fmt: skip

    def test_sciences(self) -> None:
        self.hold(
            [
                ("a.fits", fits(), fits(when="2026-02-02"), SAME, "when its units were written"),
                ("a.fits.gz", gzip.compress(fits()), gzip.compress(fits(), 1), SAME, "how it is packed"),
                ("a.fits", fits(), fits(ulp=True), DIFFERENT, "GLAZE[2, 1]"),
                ("a.fits", fits(), fits(card=("TIN", 0.5, "of all")), DIFFERENT, "GLAZE@TIN: 0.25 -> 0.5"),
                ("a.fits", fits(), fits(card=("TIN", 0.25, "of one")), DIFFERENT, "comment"),
                ("a.fits", fits(), fits(card=("LEAD", 0.25, "of all")), DIFFERENT, "GLAZE@TIN: gone"),
                ("a.fits", fits(), fits(text="S3"), DIFFERENT, "SHERDS.sherd[1]"),
                ("a.fits", fits(), fits(ragged=(9.5,)), DIFFERENT, "SHERDS.peaks[0]"),
                ("a.fits", fits(), fits(more=True), DIFFERENT, "unit: new"),
                ("a.nii", nifti(), nifti(ulp=True), DIFFERENT, "image[1, 2, 0]"),
                ("a.nii.gz", gzip.compress(nifti()), gzip.compress(nifti(ulp=True)), DIFFERENT, "image[1, 2, 0]"),
                ("a.nii.gz", gzip.compress(nifti()), gzip.compress(nifti(), 1), SAME, "how it is packed"),
                ("a.nii", nifti(), nifti(kind="f8"), DIFFERENT, "header.datatype"),
                ("a.nii", nifti(), nifti(scale=2.0), DIFFERENT, "header.scl_slope"),
                ("a.nii", nifti(), nifti(note="of the kiln"), DIFFERENT, "extensions"),
                ("a.nii", nifti(), nifti(place=3.5), DIFFERENT, "header.srow_x"),
                ("a.dcm", dicom(), dicom(name="KILN2"), DIFFERENT, "PatientID"),
                ("a.dcm", dicom(), dicom(pixel=7), DIFFERENT, "PixelData[3]"),
                ("a.dcm", dicom(), dicom(spacing=0.26), DIFFERENT, "PixelSpacing[1]"),
                ("a.dcm", dicom(), dicom(inner="S8"), DIFFERENT, "ReferencedImageSequence[0].StudyID"),
                ("a.dcm", dicom(), dicom(writer="OTHER 2"), SAME, "which program wrote it"),
            ]
        )

    def test_what_the_science_libraries_cannot_read(self) -> None:
        for name, whole in (("a.fits", fits()), ("a.nii", nifti()), ("a.dcm", dicom())):
            inside = 5765 if name == "a.fits" else len(whole) - 8
            for data in (whole[:400], whole[: len(whole) // 2], whole[:inside] + b"\1\2\3" + whole[inside + 3 :]):
                self.assertFalse(self.compared(name, whole, data).verdict.is_good, name)

    def test_pictures_in_notebooks_and_names_in_drawings(self) -> None:
        def book(pixels: Any) -> str:
            shown = {
                "output_type": "display_data",
                "metadata": {},
                "data": {"image/png": base64.b64encode(image(pixels, "PNG")).decode()},
            }
            return json.dumps(
                {
                    "cells": [{"cell_type": "code", "source": "", "outputs": [shown]}],
                    "nbformat": 4,
                    "nbformat_minor": 5,
                    "metadata": {},
                }
            )

        one: Any = np.zeros((9, 9), np.uint8)
        other = one.copy()
        other[3, 4] = 200
        found = self.compared("a.ipynb", book(one), book(other))
        self.assertIn("1 of 81 pixels differ", found.worst)
        files = {"a.ipynb": (self.recorded(book(one)), self.root / "a.ipynb")}
        self.assertTrue(drawing.has_figure(found, files))
        drawing.draw([found], files, self.root / "figure.png")
        self.assertGreater((self.root / "figure.png").stat().st_size, 5000)
        svg = '<svg xmlns="http://www.w3.org/2000/svg"><g id="axes_1"><path id="{}" d="M 0 0 L {} 1"/></g></svg>'
        self.hold(
            [
                (
                    "a.svg",
                    svg.format("line_1", 3),
                    svg.format("line_1", 4),
                    DIFFERENT,
                    "svg/g#axes_1/path#line_1 d: 3 -> 4",
                ),
                ("a.svg", svg.format("pabcdef0123", 3), svg.format("p0123abcdef", 3), SAME, "made up anew"),
            ]
        )

    def test_matlab(self) -> None:
        def mat(value: Any) -> bytes:
            stream = io.BytesIO()
            scipy.io.savemat(stream, {"x": value})
            return stream.getvalue()

        self.hold(
            [
                ("a.mat", mat(np.array([True, False])), mat(np.array([1, 0], np.uint8)), DIFFERENT, "x"),
                ("a.mat", mat(np.array([1, 2], np.int32)), mat(np.array([1.0, 2.0])), DIFFERENT, "x"),
                ("a.mat", mat({"f": 1.0}), mat({"f": 2.0}), DIFFERENT, "f"),
            ]
        )


@unittest.skipUnless(shutil.which("Rscript"), "there is no R here")
class OfR(Forms):
    def saved(self, *expressions: str) -> list[bytes]:
        """What R saves of each: the expression has ``f`` for the file."""
        with tempfile.TemporaryDirectory() as folder:
            script = "\n".join(
                f'f <- "{folder}/{number}"\n{text if "(f" in text or ", f" in text else f"saveRDS({text}, f)"}'
                for number, text in enumerate(expressions)
            )
            subprocess.run(["Rscript", "--vanilla", "-e", script], check=True, capture_output=True)
            return [Path(folder, str(number)).read_bytes() for number in range(len(expressions))]

    def pairs(self, *forms: tuple[str, str, str, str]) -> None:
        written = iter(self.saved(*(text for one, other, _, _ in forms for text in (one, other))))
        self.hold([("a.rds", next(written), next(written), verdict, said) for _, _, verdict, said in forms])

    def test_values(self) -> None:
        lm = "lm(dist ~ speed, cars)"
        self.pairs(
            ("1L", "1", DIFFERENT, "integer"),
            ("c(1L, NA)", "c(1, NA)", DIFFERENT, "integer"),
            ("NA_real_", "NaN", DIFFERENT, ""),
            ('"007"', '"7"', DIFFERENT, "007"),
            ("y ~ x", "y ~ z", DIFFERENT, "z"),
            ("y ~ x + 1", "y ~ x + 2", DIFFERENT, "2"),
            ("function(x) x + 1", "function(x) x + 2", DIFFERENT, ""),
            ("quote(a + b)", "quote(a - b)", DIFFERENT, "-"),
            (lm, lm.replace("cars", "cars[-1, ]"), DIFFERENT, ""),
            ("list2env(list(a = 1))", "list2env(list(a = 2))", DIFFERENT, ""),
            ('setClass("K", representation(n = "numeric"))(n = 1)', 'setClass("K", representation(n = "numeric"))(n = 2)', DIFFERENT, "n"),
            ("1:10", "as.integer(c(1,2,3,4,5,6,7,8,9,10))", SAME, ""),
            ("factor(c('a', 'b'))", "factor(c('b', 'a'))", DIFFERENT, ""),
        )  # fmt: skip

    def test_ways_to_pack(self) -> None:
        value = 'list(a = c(1.5, 2), b = "ä", c = 1:3)'
        for way in ('compress = "xz"', 'compress = "bzip2"', "compress = FALSE", "ascii = TRUE", "version = 2"):
            self.pairs((f"saveRDS({value}, f)", f"saveRDS({value}, f, {way})", SAME, "packed"))
            self.pairs((f"saveRDS({value}, f)", f"saveRDS({value.replace('1.5', '1.6')}, f, {way})", DIFFERENT, "1.6"))
        self.pairs(('"ä"', 'iconv("ä", "UTF-8", "latin1")', SAME, "packed"))

    def test_a_model_against_itself(self) -> None:
        """Environments and formulas are read, and do not differ by being read twice."""
        self.pairs(
            (
                "saveRDS(lm(dist ~ speed, cars), f)",
                "saveRDS(lm(dist ~ speed, cars), f, compress = FALSE)",
                SAME,
                "packed",
            ),
            ("saveRDS(function(x) x + 1, f)", "saveRDS(function(x) x + 1, f, compress = FALSE)", SAME, "packed"),
        )


class NeverUnreadable(Forms):
    def test_by_bytes_where_nothing_else_reads_it(self) -> None:
        objects = io.BytesIO()
        np.save(objects, np.array([{"a": 1}, None], dtype=object), allow_pickle=True)
        broken = b"PK\x03\x04" + b"x" * 40
        for name, content in (
            ("a.npy", objects.getvalue()),
            ("a.zip", broken),
            ("a.json", b"{broken"),
            ("a.png", b"\x89PNG\r\n\x1a\n123"),
        ):
            with self.subTest(name=name):
                self.assertEqual(str(self.compared(name, content, content).verdict), "identical")
                found = self.compared(name, content, content[:-1] + b"?")
                self.assertEqual(str(found.verdict), DIFFERENT, found)
                self.assertTrue(found.note, "why it was compared by its bytes")

    def test_kinds_are_known(self) -> None:
        self.assertEqual(set(tolerances.KINDS), set(kinds._COMPARE), "what can be declared is what can be compared")
        for kind in tolerances.KINDS:
            self.assertTrue(callable(kinds.compared_by(kind)), kind)
        path = self.root / "a.json"
        path.write_text(json.dumps({"a": 1}))
        self.assertEqual(kind_of(path), "values")


class Hostile(Forms):
    """Files that take all time or memory, or break their readers: each is one line, and the others are compared."""

    def files(self) -> dict[str, bytes]:
        import gzip

        layers = b"sherds"
        for _ in range(800):
            layers = gzip.compress(layers, 1)
        deep = b"".join(b"<a>" for _ in range(100_000))
        wide = " ".join(f'a{number}="1"' for number in range(200_000))
        header = b"{'descr': '<f8', 'fortran_order': False, 'shape': (100000000000000000000,), }"
        frames = [Image.new("1", (1, 1), number % 2) for number in range(600)]
        return {
            "aliases.yaml": b"a: &a [1,1,1,1,1,1,1,1,1]\n" + b"".join(b"b%d: &b%d [%s]\n" % (n, n, b",".join([b"*b%d" % (n - 1) if n else b"*a"] * 9)) for n in range(12)),
            "sixty.yaml": b"a: " + b"59:" * 20_000 + b"59\n",
            "digits.json": b'{"a": ' + b"9" * 200_000 + b"}",
            "layers.gz": layers,
            "deep.xml": b"<?xml version='1.0'?>" + deep,
            "wide.xml": f"<?xml version='1.0'?><a {wide}/>".encode(),
            "large.npy": b"\x93NUMPY\x01\x00" + struct.pack("<H", len(header)) + header + b"0" * 64,
            "frames.gif": saved(frames[0], "GIF", save_all=True, append_images=frames[1:]),
            "cut.parquet": b"PAR1" + b"\0" * 100 + b"\xff\xff\xff\x7fPAR1",
            "spoiled.rds": b"X\n\0\0\0\3\0\4\2\2\0\2\3\0\0\0\0\5UTF-8\0\0\0\x13\x7f\xff\xff\xff",
            "steps.pkl": b"\x80\x04" + b"(" * 200_000 + b"." ,
            "table.csv": b"a,b\n1,2\n",
        }  # fmt: skip

    def test_each_is_one_line(self) -> None:
        sides: list[dict[str, Was]] = [{}, {}]
        for name, content in self.files().items():
            for files, side, end in zip(sides, ("before", "after"), (b" ", b"  "), strict=True):
                path = self.root / side / name
                path.parent.mkdir(exist_ok=True)
                path.write_bytes(content[:-1] + end if name == "table.csv" else content + end)
                files[name] = of_file(path)
        began = time.monotonic()
        found = {one.path: one for one in compare_all(sides[0], sides[1], Tolerances())}
        self.assertLess(time.monotonic() - began, 120)
        self.assertEqual(found.keys(), self.files().keys())
        for name, one in found.items():
            said = f"{one.worst} {one.note} {one.taken} {one.set_aside}"
            self.assertIn(str(one.verdict), (DIFFERENT, SAME, "unreadable"), name)
            self.assertNotIn("Traceback", said)
            if one.verdict is Verdict.SAME:
                self.assertIn(name, ("digits.json", "sixty.yaml", "table.csv", "aliases.yaml", "steps.pkl", "wide.xml"))

    def test_a_reader_that_breaks_down(self) -> None:
        """The pair is one line, and the next one is compared by another process."""
        with Apart() as apart, self.assertRaisesRegex(BeyondLimit, "broke down"):
            apart.ask("no question", 1)
        with mock.patch.object(apart_module, "_SECONDS", 0.001), Apart() as apart:
            with self.assertRaisesRegex(BeyondLimit, "took more than"):
                apart.ask("no question", 1)
            self.assertIsNone(apart._process)


if __name__ == "__main__":
    unittest.main()
