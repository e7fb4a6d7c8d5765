"""Results against results: no verdict of "nothing differs" for what differs, none of "different" for what does not."""

from __future__ import annotations

import bz2
import gzip
import hashlib
import io
import json
import lzma
import math
import os
import pickle
import random
import re
import sqlite3
import struct
import tarfile
import tempfile
import unittest
import zipfile
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import openpyxl
import pyarrow
import pyarrow.feather
import pyarrow.parquet
import scipy.io
import yaml
from hypothesis import example, given, settings
from hypothesis import strategies as st
from PIL import Image

from lapidar.core.errors import DeclarationError
from lapidar.core.records.declaration import DeclaredAnalysis
from lapidar.core.results import apart as apart_module
from lapidar.core.results import cells, tolerances
from lapidar.core.results.apart import Apart
from lapidar.core.results.comparing import Was, compare, of_file
from lapidar.core.results.kinds import archive as archives
from lapidar.core.results.kinds import kind_of
from lapidar.core.results.numbers import Numbers, Tolerance, ulps_between
from lapidar.core.results.tolerances import Tolerances, parse
from lapidar.core.results.verdict import BeyondLimit, Compared, Verdict
from support import InFolder, many

NOTHING = Tolerances()
Table = list[dict[str, Any]]


def rows(chance: random.Random) -> Table:
    return [
        {
            "sherd": f"S{number:03}",
            "kiln": chance.choice("ABC"),
            "tin": round(chance.random() * 9, 4),
            "count": chance.randrange(99),
        }
        for number in range(30)
    ]


def as_csv(table: Table) -> bytes:
    lines = [",".join(table[0])] + [",".join(map(str, row.values())) for row in table]
    return ("\n".join(lines) + "\n").encode()


def as_tsv(table: Table) -> bytes:
    return as_csv(table).replace(b",", b"\t")


def as_json(table: Table) -> bytes:
    return json.dumps({"sherds": table, "of": "kilns"}, indent=1).encode()


def as_json_lines(table: Table) -> bytes:
    return b"".join(json.dumps(row).encode() + b"\n" for row in table)


def as_yaml(table: Table) -> bytes:
    return str(yaml.safe_dump(table)).encode()


def as_toml(table: Table) -> bytes:
    blocks = ["[[sherd]]\n" + "\n".join(f"{key} = {json.dumps(value)}" for key, value in row.items()) for row in table]
    return "\n\n".join(blocks).encode()


def as_ini(table: Table) -> bytes:
    blocks = [f"[{row['sherd']}]\nkiln = {row['kiln']}\ntin = {row['tin']}\ncount = {row['count']}\n" for row in table]
    return "\n".join(blocks).encode()


def as_text(table: Table) -> bytes:
    return "".join(
        f"Sherd {r['sherd']} of kiln {r['kiln']}: {r['tin']} % of tin, {r['count']} grains.\n" for r in table
    ).encode()


def as_log(table: Table) -> bytes:
    return "".join(
        f"2026-11-25 10:{n:02}:07 fired {r['sherd']} at {r['tin']} in {r['kiln']} ({r['count']})\n"
        for n, r in enumerate(table)
    ).encode()


def as_html(table: Table) -> bytes:
    cells = "".join("<tr>" + "".join(f"<td>{value}</td>" for value in row.values()) + "</tr>\n" for row in table)
    return f"<!doctype html><html><body><table>{cells}</table></body></html>".encode()


def as_svg(table: Table) -> bytes:
    marks = "".join(
        f'<circle id="{r["sherd"]}" cx="{r["count"]}" cy="{r["tin"]}" class="{r["kiln"]}"/>\n' for r in table
    )
    return f'<?xml version="1.0"?>\n<svg xmlns="http://www.w3.org/2000/svg">{marks}</svg>'.encode()


def columns(table: Table) -> dict[str, Any]:
    kilns = np.array([ord(row["kiln"]) for row in table])
    names = np.array([int(row["sherd"][1:]) for row in table])
    return {
        "name": names,
        "kiln": kilns,
        "tin": np.array([r["tin"] for r in table]),
        "count": np.array([r["count"] for r in table]),
    }


def as_npy(table: Table) -> bytes:
    stream = io.BytesIO()
    np.save(stream, np.stack([np.asarray(one, dtype=float) for one in columns(table).values()]))
    return stream.getvalue()


def as_npz(table: Table) -> bytes:
    stream = io.BytesIO()
    np.savez_compressed(stream, **columns(table))
    return stream.getvalue()


def as_matlab(table: Table) -> bytes:
    stream = io.BytesIO()
    scipy.io.savemat(stream, columns(table))
    return stream.getvalue()


def in_file(suffix: str, write: Callable[[Path], None]) -> bytes:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, f"made{suffix}")
        write(path)
        return path.read_bytes()


def as_hdf5(table: Table) -> bytes:
    import h5py

    def write(path: Path) -> None:
        with h5py.File(path, "w") as file:
            for name, values in columns(table).items():
                file[f"sherds/{name}"] = values
            file["sherds"].attrs["kilns"] = "".join(row["kiln"] for row in table)

    return in_file(".h5", write)


def as_netcdf(table: Table) -> bytes:
    def write(path: Path) -> None:
        with scipy.io.netcdf_file(path, "w") as file:
            file.createDimension("sherd", len(table))
            for name, values in columns(table).items():
                file.createVariable(name, "d", ("sherd",))[:] = values

    return in_file(".nc", write)


def as_parquet(table: Table) -> bytes:
    return in_file(".parquet", lambda path: pyarrow.parquet.write_table(pyarrow.Table.from_pylist(table), path))


def as_feather(table: Table) -> bytes:
    return in_file(".feather", lambda path: pyarrow.feather.write_feather(pyarrow.Table.from_pylist(table), str(path)))


def as_workbook(table: Table) -> bytes:
    book = openpyxl.Workbook()
    sheet = book.active
    sheet.append(list(table[0]))
    for row in table:
        sheet.append(list(row.values()))
    return without_times(in_file(".xlsx", lambda path: book.save(path)))


def without_times(data: bytes) -> bytes:
    """A workbook that says nothing of when it was written: two of one content are the same bytes. (Its writer keeps
    sixteen digits, so that a change in the last place of a number may be none in the file.)"""
    packed = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as before, zipfile.ZipFile(packed, "w") as after:
        for name in before.namelist():
            told = re.sub(rb"(<dcterms:\w+[^>]*>)[^<]*", rb"\g<1>2026-01-01T00:00:00Z", before.read(name))
            after.writestr(zipfile.ZipInfo(name, (2026, 1, 1, 0, 0, 0)), told)
    return packed.getvalue()


def as_sqlite(table: Table) -> bytes:
    def write(path: Path) -> None:
        with sqlite3.connect(path) as connection:
            connection.execute("CREATE TABLE sherds (sherd TEXT PRIMARY KEY, kiln TEXT, tin REAL, count INTEGER)")
            connection.executemany("INSERT INTO sherds VALUES (?, ?, ?, ?)", [tuple(row.values()) for row in table])
        connection.close()

    return in_file(".db", write)


def as_pickle(table: Table) -> bytes:
    return pickle.dumps(table)


def as_zip(table: Table) -> bytes:
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w") as archive:
        archive.writestr("sherds.csv", as_csv(table))
        archive.writestr("about/read.txt", "of the kilns\n")
    return stream.getvalue()


def as_tar(table: Table) -> bytes:
    stream = io.BytesIO()
    with tarfile.open(fileobj=stream, mode="w:gz") as archive:
        for name, data in (("sherds.json", as_json(table)), ("x", b"y")):
            member = tarfile.TarInfo(name)
            member.size = len(data)
            archive.addfile(member, io.BytesIO(data))
    return stream.getvalue()


def as_picture(table: Table, form: str = "PNG") -> bytes:
    numbers = (
        [ord(row["kiln"]) for row in table] + [row["count"] for row in table] + [int(row["sherd"][1:]) for row in table]
    )
    numbers += [byte for row in table for byte in struct.pack("<d", row["tin"])]
    stream = io.BytesIO()
    Image.fromarray(np.resize(np.array(numbers, dtype=np.uint8), (18, 30))).save(stream, form)
    return stream.getvalue()


def as_notebook(table: Table) -> bytes:
    output = {"output_type": "stream", "name": "stdout", "text": as_text(table).decode()}
    cells = [{"cell_type": "code", "source": "show()", "outputs": [output], "execution_count": 3, "metadata": {}}]
    return json.dumps({"cells": cells, "metadata": {}, "nbformat": 4, "nbformat_minor": 5}).encode()


def as_rds(table: Table) -> bytes:
    """As R's own saveRDS writes a list of two vectors of numbers and one of texts (version 2)."""
    texts = [row["sherd"] + row["kiln"] for row in table]
    data = b"X\n" + struct.pack(">iii", 2, 0x040202, 0x020300) + struct.pack(">ii", 19, 3)
    data += struct.pack(">ii", 14, len(table)) + b"".join(struct.pack(">d", row["tin"]) for row in table)
    data += struct.pack(">ii", 13, len(table)) + b"".join(struct.pack(">i", row["count"]) for row in table)
    data += struct.pack(">ii", 16, len(table))
    data += b"".join(struct.pack(">ii", 0x00040009, len(text)) + text.encode() for text in texts)
    return gzip.compress(data)


def as_pdf(table: Table) -> bytes:
    import zlib

    stream = zlib.compress(
        "".join(f"BT ({r['sherd']} {r['kiln']}) Tj {r['tin']} {r['count']} Td ET\n" for r in table).encode()
    )
    return (
        b"%%PDF-1.4\n1 0 obj\n<< /Type /Catalog /Pages 2 0 R >>\nendobj\n2 0 obj\n<< /CreationDate (D:20261125) >>\nendobj\n"
        b"3 0 obj\n<< /Length %d /Filter /FlateDecode >>\nstream\n%s\nendstream\nendobj\ntrailer\n<< /Root 1 0 R >>\n%%%%EOF\n"
        % (len(stream), stream)
    )


FORMS: dict[str, tuple[Callable[[Table], bytes], str]] = {
    "t.csv": (as_csv, "table"),
    "t.tsv": (as_tsv, "table"),
    "t.json": (as_json, "values"),
    "t.jsonl": (as_json_lines, "lines of values"),
    "t.yaml": (as_yaml, "values"),
    "t.toml": (as_toml, "values"),
    "t.ini": (as_ini, "values"),
    "t.txt": (as_text, "text"),
    "t.log": (as_log, "log"),
    "t.html": (as_html, "markup"),
    "t.svg": (as_svg, "drawing"),
    "t.npy": (as_npy, "array"),
    "t.npz": (as_npz, "array"),
    "t.mat": (as_matlab, "MATLAB"),
    "t.h5": (as_hdf5, "HDF5"),
    "t.nc": (as_netcdf, "netCDF"),
    "t.parquet": (as_parquet, "Parquet"),
    "t.feather": (as_feather, "Feather"),
    "t.xlsx": (as_workbook, "workbook"),
    "t.db": (as_sqlite, "database"),
    "t.pkl": (as_pickle, "pickle"),
    "t.zip": (as_zip, "archive"),
    "t.tar.gz": (as_tar, "archive"),
    "t.csv.gz": (lambda table: gzip.compress(as_csv(table)), "compressed"),
    "t.json.bz2": (lambda table: bz2.compress(as_json(table)), "compressed"),
    "t.txt.xz": (lambda table: lzma.compress(as_text(table)), "compressed"),
    "t.png": (as_picture, "picture"),
    "t.tiff": (lambda table: as_picture(table, "TIFF"), "picture"),
    "t.gif": (lambda table: as_picture(table, "GIF"), "picture"),
    "t.bmp": (lambda table: as_picture(table, "BMP"), "picture"),
    "t.ipynb": (as_notebook, "notebook"),
    "t.rds": (as_rds, "R values"),
    "t.pdf": (as_pdf, "PDF"),
    "t.bin": (lambda table: b"\x00\x01" + as_text(table), "bytes"),
}


class Files(InFolder):
    def compared(self, name: str, before: bytes, after: bytes, tolerances: Tolerances = NOTHING) -> Compared:
        """As in a rerun: what was recorded lies in a cache, by its digest, with nothing in its name of what it is."""
        recorded, now = self.root / hashlib.sha256(before).hexdigest(), self.root / name
        recorded.write_bytes(before)
        now.write_bytes(after)
        return compare(name, Was(recorded), of_file(now), tolerances)


class EveryKind(Files):
    def test_it_is_known_by_its_content(self) -> None:
        table = rows(random.Random(1))
        for name, (write, kind) in FORMS.items():
            path = self.root / name
            path.write_bytes(write(table))
            self.assertEqual(kind_of(path), kind, name)

    def test_no_change_goes_unseen(self) -> None:
        """5,000 files of all kinds, each with one change: a value, a digit of one, a letter."""
        # How a document looks decides nothing, and takes its time.
        self.enterContext(mock.patch("lapidar.core.results.kinds.pages.tell"))
        misses, tries = [], 0
        chance = random.Random(20261125)
        while tries < many(5000, 500):
            for name, (write, kind) in FORMS.items():
                tries += 1
                table = rows(chance)
                before = write(table)
                changed = [dict(row) for row in table]
                told = self.change(changed, chance)
                after = write(changed)
                found = self.compared(name, before, after)
                if found.verdict.is_good and before != after:
                    misses.append(f"{name}: {told}: {found.verdict}")
                if before != after and not found.worst and found.verdict is Verdict.DIFFERENT:
                    misses.append(f"{name}: {told}: it does not say what")
                if found.verdict is Verdict.UNREADABLE or (before != after and found.kind != kind):
                    misses.append(f"{name}: {told}: {found.kind}, {found.worst}")
        self.assertEqual(misses, [])

    def change(self, table: Table, chance: random.Random) -> str:
        row = chance.choice(table)
        match chance.randrange(4):
            case 0:
                row["tin"] = float(np.nextafter(row["tin"], 99))
                return "one ulp"
            case 1:
                row["count"] += 1
                return "one integer"
            case 2:
                row["kiln"] = chance.choice([one for one in "ABC" if one != row["kiln"]])
                return "one letter"
        row["tin"] = round(row["tin"] + 0.0001, 4)
        return "the last digit"

    def test_rows_and_members_that_go(self) -> None:
        chance = random.Random(4)
        for name, (write, _) in FORMS.items():
            table = rows(chance)
            fewer = table[:11] + table[12:]
            with self.subTest(name):
                self.assertFalse(self.compared(name, write(table), write(fewer)).verdict.is_good, name)
                self.assertFalse(self.compared(name, write(fewer), write(table)).verdict.is_good, name)

    def test_cut_and_spoiled_files_end_well(self) -> None:
        """Whatever a file holds, there is a verdict, and not a good one where it can be told that it is another."""
        chance = random.Random(9)
        for name, (write, _) in FORMS.items():
            whole = write(rows(chance))
            for data in (b"", whole[: len(whole) // 2], whole[:40], bytes(chance.randbytes(300)), whole + whole):
                with self.subTest(name, size=len(data)):
                    found = self.compared(name, whole, data)
                    if data in (b"", whole[:40]):
                        self.assertFalse(found.verdict.is_good)

    def test_one_file_under_two_names(self) -> None:
        path = self.root / "one.csv"
        path.write_bytes(as_csv(rows(random.Random(2))))
        os.link(path, self.root / "two.csv")
        found = compare("one.csv", Was(path), of_file(self.root / "two.csv"), NOTHING)
        self.assertEqual(found.verdict, Verdict.IDENTICAL)

    @unittest.skipIf(os.geteuid(), "it takes two users")
    def test_what_one_may_not_read(self) -> None:
        """Its digest is enough where that is known."""
        for side in ("recorded", "now"):
            (self.root / side).write_bytes(b"as it was")
        digest = hashlib.sha256(b"as it was").hexdigest()
        (self.root / "recorded").chmod(0o400)
        recorded, now = Was(self.root / "recorded", digest, 9), of_file(self.root / "now")
        os.setreuid(65534, 0)  # what one may read goes by the real user
        self.addCleanup(os.setreuid, 0, 0)
        self.assertEqual(compare("now", recorded, now, NOTHING).verdict, Verdict.IDENTICAL)
        (self.root / "now").write_bytes(b"as it is!")
        found = compare("now", recorded, now, NOTHING)
        self.assertEqual(found.verdict, Verdict.DIFFERENT)
        self.assertIn("may not be read", found.worst)


def saved_later(workbook: bytes) -> bytes:
    """The same workbook with another time in it, as everyone who writes one puts it there."""
    made = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(workbook)) as before, zipfile.ZipFile(made, "w") as after:
        for name in before.namelist():
            after.writestr(name, re.sub(rb"(?<=>)\d{4}-\d\d-\d\dT[\d:]+Z", b"2031-01-01T00:00:00Z", before.read(name)))
    return made.getvalue()


FORGETFUL = """
from lapidar.core.results.apart import serve
from lapidar.core.results.verdict import BeyondLimit
answered = []
def answer(question):
    if question == "sleeps":
        import time; time.sleep(60)
    if question == "dies" and answered or question == "always dies":
        import os; os.abort()
    if question == "much" and answered or question == "too much":
        raise BeyondLimit("it takes more memory than there is")
    answered.append(question)
    return f"{question}, after {len(answered) - 1}"
serve(answer)
"""


class InAProcessApart(InFolder):
    """What earlier files left in its memory is no reason not to compare a file."""

    def test_it_is_asked_again_in_a_new_one(self) -> None:
        (self.root / "forgetful.py").write_text(FORGETFUL)
        self.enterContext(mock.patch.dict(os.environ, {"PYTHONPATH": str(self.root)}))
        with Apart("forgetful") as apart:
            for question in ("much", "much", "one", "dies", "one", "much"):
                told = apart.ask(question, 0)
                self.assertEqual(told, f"{question}, after {int(question == 'one')}")
            for question, why in (("too much", "memory"), ("always dies", "signal 6"), ("too much", "memory")):
                with self.assertRaisesRegex(BeyondLimit, why):
                    apart.ask(question, 0)
            self.assertEqual(apart.ask("one", 0), "one, after 0")
            with mock.patch.object(apart_module, "_SECONDS", 0.3), self.assertRaisesRegex(BeyondLimit, "more than 0 s"):
                apart.ask("sleeps", 0)
            self.assertEqual(apart.ask("much", 0), "much, after 0")


class SameContent(Files):
    def same(self, name: str, before: bytes, after: bytes) -> None:
        with self.subTest(name):
            self.assertEqual(self.compared(name, before, after).verdict, Verdict.SAME)

    def test_nothing_but_bytes(self) -> None:
        table = rows(random.Random(5))
        text = as_csv(table)
        self.same("t.csv", text, text.replace(b"\n", b"\r\n"))
        self.same("t.csv", text, b"\xef\xbb\xbf" + text.rstrip(b"\n"))
        self.same("t.txt", b"one 1.50\ntwo", b"one 1.5\r\ntwo\n")
        self.same("t.json", b'{"a": 1, "b": [1.0, 2]}', b'{"b":[1,2],"a":1.00}')
        self.same("t.toml", b"a = 1\nb = 2", b"b = 2\na = 1\n# said\n")
        self.same("t.csv.gz", gzip.compress(text, mtime=1), gzip.compress(text, 1, mtime=99))
        self.same("t.json.bz2", bz2.compress(b'{"a": 1}'), bz2.compress(b'{"a":1}'))
        self.same(
            "t.log",
            b"2026-01-01 10:00:00 fired\n2026-01-01 10:00:02 cooled\n",
            b"2027-02-02 11:11:11 fired\n2027-02-02 11:11:12 cooled\n",
        )
        self.same(
            "t.html",
            b'<!doctype html><p class="a" id="b">x</p>',
            b'<!doctype html>\n<!-- made --><p id="b" class="a">x</p>',
        )
        pdf = as_pdf(table)
        self.same("t.pdf", pdf, pdf.replace(b"D:20261125", b"D:20310101"))
        book = json.loads(as_notebook(table))
        book["cells"][0]["execution_count"] = 8
        book["metadata"]["kernelspec"] = {"name": "other"}
        self.same("t.ipynb", as_notebook(table), json.dumps(book).encode())
        self.same("t.xlsx", as_workbook(table), saved_later(as_workbook(table)))

    def test_pictures_packed_otherwise(self) -> None:
        picture = Image.open(io.BytesIO(as_picture(rows(random.Random(6)))))
        first, second = io.BytesIO(), io.BytesIO()
        picture.save(first, "PNG", compress_level=1)
        from PIL.PngImagePlugin import PngInfo

        told = PngInfo()
        told.add_text("Software", "another")
        picture.save(second, "PNG", compress_level=9, pnginfo=told)
        self.same("t.png", first.getvalue(), second.getvalue())
        quick, small = io.BytesIO(), io.BytesIO()
        picture.save(quick, "WEBP", lossless=True, quality=0, method=0)
        picture.save(small, "WEBP", lossless=True, quality=100, method=6)
        self.assertNotEqual(quick.getvalue(), small.getvalue())
        self.same("t.webp", quick.getvalue(), small.getvalue())

    def test_documents_are_drawn_too(self) -> None:
        """Where something differs, it is told whether one can see it."""
        drawn = {name: self.documents() for name in ("one", "other")}
        moved = self.documents(high=2.7)
        for form, name in (("pdf", "a.pdf"), ("svg", "a.svg")):
            with self.subTest(form):
                self.assertEqual(self.compared(name, drawn["one"][form], drawn["other"][form]).verdict.is_good, True)
                found = self.compared(name, drawn["one"][form], moved[form])
                self.assertEqual(found.verdict, Verdict.DIFFERENT)
                self.assertRegex(found.details[0], r"^page 1, drawn: [\d,]+ of [\d,]+ pixels differ")
        unseen = drawn["one"]["svg"].replace(b"</svg>", b"<desc>glaze</desc></svg>")
        self.assertEqual(self.compared("a.svg", drawn["one"]["svg"], unseen).details[0], "drawn, they look the same")

    def documents(self, high: float = 3) -> dict[str, bytes]:
        import matplotlib

        matplotlib.use("Agg")
        import matplotlib.pyplot as pyplot

        figure, axes = pyplot.subplots()
        axes.plot([1, 2, 3], [1, 2, high])
        made = {}
        for form in ("pdf", "svg"):
            stream = io.BytesIO()
            figure.savefig(stream, format=form)
            made[form] = stream.getvalue()
        pyplot.close(figure)
        return made

    def test_archives_with_other_dates(self) -> None:
        made = []
        for date, order in (((2020, 1, 1, 0, 0, 0), 1), ((2024, 1, 1, 0, 0, 0), -1)):
            stream = io.BytesIO()
            with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED if order > 0 else zipfile.ZIP_STORED) as archive:
                for name in ("a.txt", "b.txt")[::order]:
                    archive.writestr(zipfile.ZipInfo(name, date), "kiln\n")
            made.append(stream.getvalue())
        self.same("t.zip", *made)


class Tables(Files):
    HEAD = b"sherd,kiln,tin\n"

    def test_rows_and_columns_that_came_went_and_moved(self) -> None:
        before = self.HEAD + b"".join(b"S%d,K%d,%d.5\n" % (n, n % 3, n) for n in range(40))
        lines = before.splitlines(keepends=True)
        moved = b"".join([lines[0], *lines[20:], *lines[1:20]])
        self.assertIn("another order (matched by sherd", self.compared("t.csv", before, moved).worst)
        gone = self.compared("t.csv", before, b"".join(lines[:7] + lines[8:]))
        self.assertEqual(list(gone.details), ["row 8 (sherd S6, kiln K0, tin 6.5): gone"])
        new = self.compared("t.csv", before, before + b"S90,K1,2.0\n")
        self.assertEqual(list(new.details), ["row 42 (sherd S90, kiln K1, tin 2.0): new"])
        more = b"\n".join(line + b",x" for line in before.splitlines()) + b"\n"
        self.assertEqual(
            list(self.compared("t.csv", before, more.replace(b"tin,x", b"tin,lead")).details), ["column lead: new"]
        )

    def test_matched_by_declared_columns(self) -> None:
        lines = [b"%d,%d.5,%d.25\n" % (n % 3, n // 3, n) for n in range(30)]
        before, after = b"layer,depth,tin\n", b"layer,depth,tin\n"
        before, after = before + b"".join(lines), after + b"".join(reversed(lines)).replace(b"7.25", b"7.5", 1)

        def by(*key: str) -> Compared:
            told = DeclaredAnalysis("kilns", matched_by={"*.csv": key})
            return self.compared("t.csv", before, after, tolerances.of(told))

        found = by("layer", "depth")
        assert found.numbers
        self.assertEqual(found.numbers.differing, 1)
        self.assertIn("matched by layer, depth", found.worst + " ".join(found.details))
        self.assertIn("layer 0 stands there twice", " ".join(by("layer").set_aside))
        self.assertIn("not both have a column kiln", " ".join(by("kiln").set_aside))
        with self.assertRaises(DeclarationError):
            by()

    def test_matched_lines_and_matched_cells_say_the_same(self) -> None:
        """Rows that are lines are read where they are needed, and compared by columns where many differ; with a quoted
        cell in the file they are taken apart one by one."""
        chance = random.Random(20261129)
        for size in (7, 60, 400):
            for _ in range(12):
                before = [[f"S{n}", chance.choice("ABC"), f"{chance.random():.6f}", str(n)] for n in range(size)]
                after = [list(row) for row in before]
                for row in chance.sample(after, chance.choice((1, size // 2, size))):
                    row[chance.randrange(1, 4)] = chance.choice(("0.25", "x", "", "-0", "1e5", "7"))
                del after[chance.randrange(size)]
                after.insert(chance.randrange(size), ["S-new", "A", "1.5", "2"])
                if chance.random() < 0.5:
                    chance.shuffle(after)
                told = []
                for last in ("note", '"note"'):
                    head = f"sherd,kiln,tin,{last}"
                    one, other = (
                        "\n".join([head, *(",".join(row) for row in rows), ""]).encode() for rows in (before, after)
                    )
                    found = self.compared("t.csv", one, other)
                    assert found.numbers
                    numbers = found.numbers.compared, found.numbers.differing, found.numbers.beyond
                    told.append((found.verdict, numbers, found.more, sorted(found.details) if not found.more else []))
                self.assertEqual(*told)
                self.assertEqual(told[0][0], Verdict.DIFFERENT)

    def test_numbers_alone_in_another_order(self) -> None:
        before = b"".join(b"%d.5,%d.25\n" % (n, 2 * n) for n in range(30))
        after = b"".join(reversed(before.splitlines(keepends=True)))
        self.assertEqual(self.compared("t.csv", before, after).worst, "the same rows stand in another order")

    def test_the_worst_has_its_place(self) -> None:
        before = self.HEAD + b"S1,K1,1.0\nS2,K1,2.0\nS3,K2,nan\n"
        after = self.HEAD + b"S1,K1,1.0000000000000002\nS2,K1,2.5\nS3,K2,NaN\n"
        found = self.compared("t.csv", before, after)
        assert found.numbers is not None
        self.assertEqual((found.numbers.differing, found.numbers.at_absolute), (2, "row 3, tin"))
        self.assertEqual(found.numbers.absolute, 0.5)
        self.assertEqual(sorted(found.numbers.distribution), [0, 2], "a step of a double, and five of the digit shown")
        self.assertEqual(found.numbers.nans, 1)

    def test_all_cells_are_counted(self) -> None:
        lines = [f"S{n},{n}.5,{n}" for n in range(50_000)]
        before = "\n".join(["sherd,tin,count", *lines]) + "\n"
        lines[44_444] = "S44444,44444.5,44445"
        found = self.compared("t.csv", before.encode(), ("\n".join(["sherd,tin,count", *lines]) + "\n").encode())
        assert found.numbers
        self.assertIn("row 44446, count", found.worst)
        self.assertEqual((found.numbers.compared, found.numbers.differing), (150_000 + 3, 1))

    def test_tolerated_by_column(self) -> None:
        before, after = self.HEAD + b"S1,K1,1.0\nS2,K1,2.0\n", self.HEAD + b"S1,K1,1.001\nS2,K1,2.0\n"
        rules = parse({"*.csv:tin": {"relative": 0.01}}, [], "x")
        found = self.compared("t.csv", before, after, rules)
        self.assertEqual((found.verdict, found.tolerance), (Verdict.WITHIN, "tin: relative 0.01"))
        for ulps, verdict in ((1, Verdict.WITHIN), (0.5, Verdict.DIFFERENT)):
            strict = parse({"*.csv:tin": {"ulps": ulps}}, [], "x")
            self.assertEqual(self.compared("t.csv", before, after, strict).verdict, verdict, "of the digits shown")
        strict = parse({"*.csv:tin": {"ulps": 0}}, [], "x")
        self.assertEqual(self.compared("t.csv", before, after, strict).verdict, Verdict.DIFFERENT)
        other = parse({"*.csv:lead": {"relative": 0.01}, "*.txt": {"absolute": 9}}, [], "x")
        self.assertEqual(self.compared("t.csv", before, after, other).verdict, Verdict.DIFFERENT)
        left = parse({}, ["*.csv:tin"], "x")
        found = self.compared("t.csv", before, after, left)
        self.assertEqual((found.verdict, found.set_aside), (Verdict.SAME, ("column tin",)))

    def test_what_no_tolerance_allows(self) -> None:
        rules = parse({"*": {"absolute": 1e9, "relative": 0.9, "ulps": 1e18}}, [], "x")
        for before, after in ((b"1.0", b"nan"), (b"inf", b"1.0"), (b"inf", b"-inf"), (b"1.0", b"one")):
            found = self.compared(
                "t.csv", self.HEAD + b"S,K," + before + b"\n", self.HEAD + b"S,K," + after + b"\n", rules
            )
            self.assertEqual(found.verdict, Verdict.DIFFERENT, (before, after))

    def test_tolerances_that_make_no_sense(self) -> None:
        for measures in (
            {"relative": -1},
            {"absolute": math.nan},
            {"relative": 2},
            {"percent": 3},
            {},
            {"ulps": math.inf},
        ):
            with self.assertRaises(DeclarationError, msg=str(measures)):
                parse({"*.csv": measures}, [], "lapidar.toml")
        with self.assertRaises(DeclarationError):
            parse({}, ["*.csv"], "lapidar.toml")


class NumbersAlone(unittest.TestCase):
    @settings(max_examples=many(400, 100), deadline=None)
    @given(st.floats(allow_nan=False, allow_infinity=False), st.integers(1, 60))
    def test_ulps_count_steps(self, value: float, steps: int) -> None:
        other = value
        for _ in range(steps):
            other = math.nextafter(other, math.inf)
        if math.isfinite(other):
            self.assertEqual(ulps_between(value, other), steps)
            numbers = Numbers()
            self.assertFalse(numbers.values(value, other, "here"))
            self.assertTrue(Numbers().values(value, other, "here", Tolerance(ulps=steps)))
            if steps > 1:
                self.assertFalse(Numbers().values(value, other, "here", Tolerance(ulps=steps - 1)))

    @settings(max_examples=many(400, 100), deadline=None)
    @given(
        st.decimals(-(10**30), 10**30, allow_nan=False, places=12),
        st.decimals(-(10**30), 10**30, allow_nan=False, places=12),
    )
    def test_texts_have_exact_values(self, one: Decimal, other: Decimal) -> None:
        numbers = Numbers()
        equal = numbers.texts(str(one), str(other), "here")
        self.assertEqual(equal, (one == other and one.is_signed() == other.is_signed()) or (one == other and one != 0))
        if one != other:
            self.assertAlmostEqual(numbers.absolute, float(abs(one - other)), delta=float(abs(one - other)) * 1e-9)

    def test_beyond_two_to_the_53(self) -> None:
        numbers = Numbers()
        self.assertFalse(numbers.texts("9007199254740993", "9007199254740992", "here"))
        self.assertEqual((numbers.absolute, numbers.differing), (1.0, 1))
        arrays = Numbers()
        arrays.arrays(np.array([2**62 + 1]), np.array([2**62]), "a")
        self.assertEqual((arrays.absolute, arrays.at_absolute), (1.0, "a[0]"))
        self.assertTrue(Numbers().texts("1.50", "1.5", "here"))
        self.assertFalse(Numbers().texts("0.1", "0.1000000000000000055511151231257827", "here"))
        self.assertFalse(Numbers().texts("0.0", "-0.0", "here"))

    @settings(max_examples=many(200, 60), deadline=None)
    @given(st.lists(st.tuples(st.floats(), st.floats() | st.none()), min_size=1, max_size=20))
    @example([(0.0, math.nan)])
    @example([(math.nan, -0.0)])
    @example([(1e308, -1e308), (0.0, math.inf)])
    def test_arrays_as_their_elements(self, pairs: list[tuple[float, float | None]]) -> None:
        values = [value for value, _ in pairs]
        others = [value if other is None else other for value, other in pairs]
        array, single = Numbers(), Numbers()
        array.arrays(np.array(values), np.array(others), "a")
        for at, (one, other) in enumerate(zip(values, others, strict=True)):
            single.values(one, other, f"a[{at}]")
        for name in ("compared", "differing", "beyond", "nans", "absolute", "relative", "ulps", "distribution"):
            self.assertEqual(getattr(array, name), getattr(single, name), name)


class Cells(unittest.TestCase):
    """A column as a list and as an array."""

    TEXTS = st.one_of(
        st.floats().map(repr),
        st.integers().map(str),
        st.sampled_from(
            ["", " 1", "1_0", "0x1p3", "1.50", "1.5", "-0.0", "0", "nan", "inf", "tin", "é", "1e400", "+3"]
        ),
    )

    @given(st.data(), st.integers(1, 3))
    def test_both_say_the_same(self, data: st.DataObject, many: int) -> None:
        # Most cells of a column are numbers, as in real tables: otherwise nothing would be read at once.
        row = st.lists(
            st.one_of(st.floats(allow_nan=False, allow_infinity=False).map(repr), self.TEXTS),
            min_size=many,
            max_size=many,
        )
        plain = [f"{n}.25" for n in range(60)]
        tail = data.draw(st.lists(st.tuples(row, row), max_size=4))
        ones = [",".join([text] * many) + "\n" for text in plain] + [",".join(one) + "\n" for one, _ in tail]
        others = [line.replace(".25", ".5") for line in ones[:60]] + [",".join(other) + "\n" for _, other in tail]
        at_once = cells.columns(ones, others, ",")
        assert at_once is not None
        for at, (before, after) in enumerate(at_once):
            self.assertNotIsInstance(before, cells.Listed)
            listed = [cells.Listed([line.rstrip("\n").split(",")[at] for line in lines]) for lines in (ones, others)]
            unlike = listed[0].unlike(listed[1])
            self.assertEqual([int(row) for row in before.unlike(after)], unlike)
            self.assertEqual(before.texts(before.unlike(after)), listed[0].texts(unlike))
            one, other = before.floats(before.unlike(after)), listed[0].floats(unlike)
            # What is no plain number for one of them is compared cell by cell, which is slower and no less right.
            if one is not None and other is not None:
                self.assertEqual(one.tobytes(), other.tobytes())


class Hostile(Files):
    def test_it_ends_within_limits(self) -> None:
        bomb = io.BytesIO()
        with (
            zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as archive,
            archive.open("zeros", "w", force_zip64=True) as member,
        ):
            for _ in range(6):
                member.write(bytes(10_000_000))
        aliases = "a: &a [x,x,x,x,x,x,x,x,x]\n" + "".join(
            f"b{n}: &b{n} [" + ",".join([f"*b{n - 1}" if n else "*a"] * 9) + "]\n" for n in range(12)
        )
        entities = '<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><x>&b;</x>'
        cases = {
            "t.zip": (bomb.getvalue(), "unpacks to more than"),
            "t.yaml": (aliases.encode(), "aliases stand for more than"),
            "t.svg": (entities.encode(), "defines entities"),
            "t.json": (b"[" * 100_000 + b"]" * 100_000, "recursion|nested"),
            "t.txt": (b"x" * (5 << 20), "more than .* characters"),
        }
        for name, (data, why) in cases.items():
            with self.subTest(name), mock.patch.object(archives, "_MOST_BYTES", 50_000_000):
                found = self.compared(name, data, data[:-1] + b" ")
                self.assertEqual(found.verdict, Verdict.UNREADABLE, found)
                self.assertRegex(found.worst, why)

    def test_nothing_is_run(self) -> None:
        mark = self.root / "ran"

        class Runs:
            def __reduce__(self) -> tuple[Any, tuple[str]]:
                return os.mkdir, (str(mark),)

        self.compared("t.pkl", pickle.dumps(Runs()), pickle.dumps([Runs(), 1]))
        stream = io.BytesIO()
        np.save(stream, np.array([Runs()], dtype=object), allow_pickle=True)
        self.assertIn("by its bytes", self.compared("t.npy", stream.getvalue(), stream.getvalue() + b"x").note)
        self.compared("t.yaml", b"a: !!python/object/apply:os.mkdir [" + bytes(mark) + b"]", b"a: 1")
        self.assertFalse(mark.exists())

    def test_a_pipe_is_not_waited_for(self) -> None:
        os.mkfifo(self.root / "pipe")
        (self.root / "file").write_text("x")
        for one, other in (("pipe", "file"), ("file", "pipe")):
            found = compare("x.txt", Was(self.root / one), of_file(self.root / other), NOTHING)
            self.assertEqual(found.verdict, Verdict.UNREADABLE)

    def test_members_with_names_that_lead_out(self) -> None:
        made = []
        for text in ("one", "two"):
            stream = io.BytesIO()
            with zipfile.ZipFile(stream, "w") as archive:
                archive.writestr("../../out.txt", text)
            made.append(stream.getvalue())
        self.assertEqual(self.compared("t.zip", made[0], made[1]).verdict, Verdict.DIFFERENT)
        self.assertEqual({path.name for path in self.root.rglob("*")}, {"t.zip", hashlib.sha256(made[0]).hexdigest()})
