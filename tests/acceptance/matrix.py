"""Environments times roots: python tests/acceptance/matrix.py [--only NAME ...] ROOT ...

Before, `lapidar prove` says here whether it will be so: one that it calls proven must be identical on every root; of one that
it does not call so nothing is expected.

Each environment below is made (with the index that pip is configured for), runs a script here, is captured, restored
below ROOT/home, and runs the script there with no network; what the script prints, digests of numbers and of pictures,
must be the same. ROOT is a folder with another system in it: a bare one with a static shell, Debian 11's smallest,
Debian 13's. Needs root, some 6 GB in TMPDIR, and about two minutes an environment, most of it the making and compiling.
What cannot be made here is said, and is no failure. The last line says N passed, N failed.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))
from another_system import Trial

from roots import bare_root, run_in

HEAD = """
import hashlib, os, sys
def told(name, *values):
    print(name, hashlib.sha256(b"".join(v if isinstance(v, bytes) else v.tobytes() for v in values)).hexdigest()[:20])
"""
SCIENTIFIC = """
import numpy as np, scipy.stats, scipy.fft, pandas as pd, matplotlib
matplotlib.use("Agg")
import matplotlib.pyplot as plt
random = np.random.default_rng(7)
a = random.standard_normal((200, 200))
told("numbers", *np.linalg.svd(a), np.exp(a), a @ a, scipy.fft.fft(a))
table = pd.DataFrame({"kiln": random.integers(0, 5, 500), "tin": random.random(500)})
told("table", table.groupby("kiln").tin.describe().to_csv().encode())
told("zones", str(pd.Timestamp("2021-07-01", tz="Europe/Rome").utcoffset()).encode())
fig, axes = plt.subplots(1, 2)
axes[0].hist(table.tin)
axes[1].set_title("Kiln $\\\\alpha^2$")
fig.savefig("/tmp/matrix.png", metadata={"Software": None})
told("plot", open("/tmp/matrix.png", "rb").read())
"""
GEOSPATIAL = """
import pyproj, shapely, shapely.geometry as g, numpy as np
there = pyproj.Transformer.from_crs(4326, 3035, always_xy=True)
told("projected", np.array(there.transform(np.linspace(9, 14, 99), np.linspace(41, 47, 99))))
told("buffered", shapely.to_wkb(g.Point(0, 0).buffer(3).intersection(g.box(0, 0, 9, 9))))
"""
DESKTOP = """
os.environ["QT_QPA_PLATFORM"] = "offscreen"
from PySide6.QtGui import QGuiApplication, QImage, QPainter, QFont
app = QGuiApplication(sys.argv)
image = QImage(300, 80, QImage.Format.Format_RGB32)
image.fill(0xFFFFFF)
painter = QPainter(image)
painter.setFont(QFont("Sans Serif", 18))
painter.drawText(10, 50, "Kiln 7, sherd 12")
painter.end()
told("window", bytes(image.constBits()))
"""
NOTEBOOK = """
import nbformat, nbclient
from jupyter_client import AsyncKernelManager
os.chdir("/tmp")  # where the sockets lie: a root without a network has no other way to talk to a kernel
book = nbformat.v4.new_notebook()
book.cells = [nbformat.v4.new_code_cell("import numpy as np; np.linalg.svd(np.random.default_rng(2).random((60, 60)))[1]")]
manager = AsyncKernelManager(kernel_name="python3", transport="ipc")
nbclient.NotebookClient(book, km=manager, timeout=120).execute()
told("cell", book.cells[0].outputs[0].data["text/plain"].encode())
"""
COMPILED = """
import glaze
told("compiled", glaze.version().encode(), glaze.squeezed(b"tin" * 500))
"""
DRAWN = """
import subprocess
graph = 'digraph { label="Sherds" fontname="Helvetica"; kiln -> sherd [label="glaze"] }'
told("graph", subprocess.run(["dot", "-Tpng"], input=graph.encode(), capture_output=True, check=True).stdout)
plot = "set terminal pngcairo font 'Sans,12'; set title 'Kiln'; plot sin(x)"
told("curve", subprocess.run(["gnuplot", "-e", plot], capture_output=True, check=True).stdout)
"""
TEXT = """
from PIL import Image, ImageDraw, ImageFont
image = Image.new("L", (300, 60), 255)
ImageDraw.Draw(image).text((5, 5), "\u05e9\u05dc\u05d5\u05dd kiln", font=ImageFont.load_default(24))
told("text", image.tobytes())
"""
ZONES = """
import datetime, pyarrow, pyarrow.compute
there = pyarrow.array([datetime.datetime(2020, 6, 1, 12)], pyarrow.timestamp("s", "Europe/Berlin"))
told("hour", str(pyarrow.compute.hour(there)).encode())
"""
LOCALES = """
import locale
def sorted_in(name):
    try:
        locale.setlocale(locale.LC_ALL, name)
    except locale.Error:
        return [name]
    return sorted(["z", "\u00e4", "a", "B"], key=locale.strxfrm)
told("sorted", *(repr(sorted_in(name)).encode() for name in ("C.UTF-8", "de_DE.UTF-8", "sv_SE.UTF-8")))
"""
BUILT = """
import cffi, os, tempfile
os.chdir(tempfile.mkdtemp())
maker = cffi.FFI()
maker.cdef("int heat(void);")
maker.set_source("_kiln", "int heat(void) { return 1280; }")
maker.compile()
sys.path.insert(0, ".")
import _kiln
told("built", str(_kiln.lib.heat()).encode())
"""
WORDS = """
import subprocess, tempfile
os.chdir(tempfile.mkdtemp())
def ran(*words, **more):
    return subprocess.run(words, capture_output=True, check=True, **more).stdout
def written(name, text):
    open(name, "w").write(text)
    return name
"""
PERL = """
told("perl", ran("perl", "-MEncode", "-MPOSIX", "-MJSON::PP", "-e", "print encode_json([floor(2.5), uc 'tin'])"))
"""
GHOSTSCRIPT = """
page = written("page.ps", "%!PS\\n/Helvetica findfont 30 scalefont setfont 99 99 moveto (Kiln) show showpage")
ran("gs", "-q", "-dBATCH", "-dNOPAUSE", "-sDEVICE=png16m", "-sOutputFile=page.png", page)
told("page", open("page.png", "rb").read())
"""
IMAGES = """
text = '<text x="9" y="40" font-size="30" font-family="serif">Kiln 7</text>'
drawing = written("a.svg", f'<svg xmlns="http://www.w3.org/2000/svg" width="200" height="60">{text}</svg>')
told("drawing", ran("rsvg-convert", drawing))
told("converted", ran("convert", "-background", "white", drawing, "rgb:-"))
annotated = ("-font", "DejaVu-Sans", "-pointsize", "24", "-annotate", "+10+40", "Sherd")
told("annotated", ran("convert", "-size", "200x60", "xc:white", *annotated, "rgb:-"))
"""
LATEX = """
written("a.tex", r"\\documentclass{article}\\usepackage{booktabs,amsmath}\\begin{document}Kiln $\\int x$\\end{document}")
ran("pdflatex", "-interaction=batchmode", "a.tex", env={**os.environ, "SOURCE_DATE_EPOCH": "1"})
told("text", ran("pdftotext", "a.pdf", "-"))
told("page", open("a.pdf", "rb").read().split(b"/ID")[0])
"""
OCTAVE = """
told("octave", ran("octave-cli", "--no-gui", "--eval", "printf('%.17g ', svd(magic(4)), real(fft(1:5)))"))
"""
FFMPEG = """
told("frames", ran("ffmpeg", "-v", "error", "-f", "lavfi", "-i", "testsrc=duration=1:size=64x64:rate=4", "-f", "rawvideo", "-"))
"""
PANDOC = """
told("page", ran("pandoc", "-s", "--metadata", "title=Kilns", written("a.md", "# Kilns\\n*tin* $x^2$\\n")))
"""
NODE = """
told("node", ran("node", "-e", "console.log(new Intl.Collator('de').compare('a', 'z'), Math.sin(3), process.version)"))
"""
CLIENT = """
told("client", ran("psql", "--version"))
"""
JAVA = """
written("H.java", "public class H { public static void main(String[] a) { System.out.println(Math.sin(3) + "
    "String.format(java.util.Locale.GERMANY, \\"%,.2f\\", 1234.5)); } }")
told("java", ran("java", "H.java"))
"""
MPI = """
words = ["mpirun", "--allow-run-as-root", "--oversubscribe", "-n", "2", sys.executable, "-c", "print(2 ** 0.5)"]
told("both", ran(*words))
"""
COMPILER = """
written("heat.c", '#include <stdio.h>\\n#include <math.h>\\nint main(int c, char **v) { printf("%.17g", sin(c * 0.3)); }')
ran("gcc", "-O2", "-o", "heat", "heat.c", "-lm")
told("compiled", ran("./heat"))
"""
GLAZE = """
#include <Python.h>
#include <zlib.h>
static PyObject *version(PyObject *self, PyObject *none) { return PyUnicode_FromString(zlibVersion()); }
static PyObject *squeezed(PyObject *self, PyObject *text) {
    char *data; Py_ssize_t size; Bytef out[4096]; uLongf used = sizeof out;
    if (PyBytes_AsStringAndSize(text, &data, &size) < 0) return NULL;
    compress(out, &used, (Bytef *)data, size);
    return PyBytes_FromStringAndSize((char *)out, used);
}
static PyMethodDef methods[] = {{"version", version, METH_NOARGS, 0}, {"squeezed", squeezed, METH_O, 0}, {0}};
static struct PyModuleDef module = {PyModuleDef_HEAD_INIT, "glaze", 0, -1, methods};
PyMODINIT_FUNC PyInit_glaze(void) { return PyModule_Create(&module); }
"""
SETUP = """
from setuptools import Extension, setup
setup(name="glaze", version="1.0", ext_modules=[Extension("glaze", ["glaze.c"], libraries=["z"])])
"""


class NotHere(Exception):
    """It cannot be made on this machine."""


@dataclass(frozen=True)
class Recipe:
    """An environment: how it is made in a folder, what runs in it, and the outside programs that takes."""

    name: str
    make: Callable[[Path], Path]
    script: str
    tools: tuple[str, ...] = ()
    needs: str = ""


def installed(python: str, *needs: str) -> Callable[[Path], Path]:
    """A virtual environment with packages from the configured index."""

    def make(work: Path) -> Path:
        place = work / "made"
        done = subprocess.run([python, "-m", "venv", place], capture_output=True, text=True)
        if done.returncode:
            raise NotHere(f"{python} makes no virtual environment")
        words = [str(place / "bin/python"), "-m", "pip", "install", "--quiet", "--prefer-binary", *needs]
        done = subprocess.run(words, capture_output=True, text=True)
        if done.returncode:
            raise NotHere(done.stderr.strip().splitlines()[-1][:200])
        return place

    return make


def compiled_here(work: Path) -> Path:
    """An environment with a package built here against this machine's own library."""
    source = work / "source"
    source.mkdir()
    (source / "glaze.c").write_text(GLAZE)
    (source / "setup.py").write_text(SETUP)
    place = installed(sys.executable, "setuptools", "wheel")(work)
    words = [str(place / "bin/python"), "-m", "pip", "install", "--quiet", "--no-build-isolation", str(source)]
    done = subprocess.run(words, capture_output=True, text=True)
    if done.returncode:
        raise NotHere(done.stderr.strip().splitlines()[-1][:200])
    return place


def of_the_system(work: Path) -> Path:
    """The operating system's own Python."""
    words = ["/usr/bin/python3", "-c", "import matplotlib, pandas, scipy; print(matplotlib.__file__)"]
    done = subprocess.run(words, capture_output=True, text=True)
    if done.returncode or "dist-packages" not in done.stdout:
        raise NotHere("the system's Python has no pandas, matplotlib and scipy of its own")
    return Path("/usr/bin/python3")


def bare(work: Path) -> Path:
    """A virtual environment with nothing in it."""
    place = work / "made"
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", place], check=True)
    return place


def beside(*programs: str) -> Callable[[Path], Path]:
    """Any environment, beside outside programs."""

    def make(work: Path) -> Path:
        for name in programs:
            if shutil.which(name) is None:
                raise NotHere(f"there is no {name}")
        return bare(work)

    return make


def outside(name: str, script: str, *tools: str, needs: str = "") -> Recipe:
    """A recipe of outside programs.

    Args:
        needs: more lines of [needs].
    """
    return Recipe(name, beside(*tools), WORDS + script, tools, needs)


def pythons() -> list[str]:
    """Every CPython on PATH and beside this one that the scientific packages are still made for."""
    found: dict[str, str] = {}
    for number in range(10, 15):
        path = shutil.which(f"python3.{number}")
        beside = sorted(Path.home().glob(f".pyenv/versions/3.{number}.*/bin/python3"))
        if beside or path:
            found[f"3.{number}"] = str(beside[-1]) if beside else str(path)
    return list(found.values())


def recipes() -> list[Recipe]:
    """All of them."""
    packages = ("numpy", "scipy", "pandas", "matplotlib")
    every = [
        Recipe(f"scientific-{Path(one).resolve().name}", installed(one, *packages), SCIENTIFIC) for one in pythons()
    ]
    every += [
        Recipe("geospatial", installed(sys.executable, "pyproj", "shapely"), GEOSPATIAL),
        Recipe("desktop", installed(sys.executable, "PySide6-Essentials"), DESKTOP),
        Recipe("notebook", installed(sys.executable, "ipykernel", "nbclient", "numpy"), NOTEBOOK),
        Recipe("compiled-here", compiled_here, COMPILED),
        Recipe("of-the-system", of_the_system, SCIENTIFIC),
        Recipe("programs", beside("dot", "gnuplot"), DRAWN, ("dot", "gnuplot")),
        Recipe("programs-not-declared", beside("dot", "gnuplot"), DRAWN),
        outside("perl", PERL, "perl"),
        outside("ghostscript", GHOSTSCRIPT, "gs"),
        outside("images", IMAGES, "/usr/bin/convert", "rsvg-convert"),
        outside("latex", LATEX, "pdflatex", "pdftotext", needs='system-packages = ["texlive-latex-recommended"]'),
        outside("octave", OCTAVE, "octave-cli"),
        outside("ffmpeg", FFMPEG, "ffmpeg"),
        outside("pandoc", PANDOC, "pandoc"),
        outside("node", NODE, "node"),
        outside("database-client", CLIENT, "psql"),
        outside("java", JAVA, "java"),
        outside("two-processes", MPI, "mpirun"),
        outside("compiler", COMPILER, "gcc"),
        Recipe("text", installed(sys.executable, "pillow"), TEXT),
        Recipe("zones", installed(sys.executable, "pyarrow"), ZONES),
        Recipe("locales", bare, LOCALES),
        Recipe("built-at-run-time", installed(sys.executable, "cffi", "setuptools"), BUILT),
    ]
    return every


def tried(recipe: Recipe, roots: list[Path], work: Path) -> dict[str, str]:
    """What came of an environment on each root: "" where all is the same.

    Raises:
        NotHere: it cannot be made.
    """
    environment = recipe.make(work)
    python = environment if environment.is_file() else environment / "bin/python"
    script = work / "trial.py"
    script.write_text(HEAD + recipe.script)
    variables = {**os.environ, "HOME": "/tmp", "LC_ALL": "C.UTF-8"}
    here = subprocess.run([python, script], env=variables, capture_output=True, text=True)
    if here.returncode:
        raise NotHere(f"its script does not run here: {here.stderr.strip().splitlines()[-1][:200]}")
    trial = Trial(roots[0], environment, work / "project")
    trial.work.mkdir()
    trial.variables["LAPIDAR_CACHE"] = str(work / "cache")
    if recipe.tools:
        declared = f"[needs]\ntools = {json.dumps(recipe.tools)}\n{recipe.needs}\n"
        (trial.work / "lapidar.toml").write_text(declared)
    trial.lapidar("capture", environment, "--scope", "whole")
    is_proven = _proven(trial, script)
    return {root.name: _judged(_on(root, trial, script, here.stdout), is_proven) for root in roots}


def _proven(trial: Trial, script: Path) -> bool:
    """Whether `lapidar prove` says that it comes out the same elsewhere."""
    shutil.copy(script, trial.work)
    trial.lapidar("restore")
    said = json.loads(trial.lapidar("--json", "prove", "--", "python", script.name))
    if not said["proven"]:
        missing = ", ".join(one["path"] for one in said["proofs"][0]["missing"][:4])
        print(f"  prove: not proven ({missing or 'nothing that this machine has is missing'})", flush=True)
    return bool(said["proven"])


def _judged(wrong: str, is_proven: bool) -> str:
    """What is wrong on a root: nothing where it is identical, or was told before."""
    if wrong and not is_proven:
        print(f"  as was told before: {wrong}", flush=True)
        return ""
    return wrong and f"{wrong}, AND IT WAS CALLED PROVEN"


def _on(root: Path, trial: Trial, script: Path, here: str) -> str:
    place = root / "home" / "matrix"
    shutil.rmtree(place, ignore_errors=True)
    trial.lapidar("restore", "--into", place)
    shutil.copy(script, root / "home")
    variables = ("HOME=/tmp", "LC_ALL=C.UTF-8", "PATH=/home/matrix/bin:/bin:/usr/bin")
    try:
        there = run_in(
            root,
            "/usr/bin/env" if (root / "usr/bin/env").exists() else "/bin/env",
            *variables,
            "/home/matrix/bin/python",
            f"/home/{script.name}",
        )
    except AssertionError as error:
        return str(error).strip().splitlines()[-1][:200]
    finally:
        shutil.rmtree(place, ignore_errors=True)
    differing = [
        one.split()[0] for one, other in zip(here.splitlines(), there.splitlines(), strict=False) if one != other
    ]
    return f"differs: {', '.join(differing)}" if differing or len(here) != len(there) else ""


def main() -> int:
    parser = argparse.ArgumentParser(description=(__doc__ or "").partition("\n\n")[2])
    parser.add_argument("roots", nargs="*", type=Path, metavar="ROOT", help="without any, a bare one is made")
    parser.add_argument("--only", nargs="+", default=(), metavar="NAME", help="these environments")
    given = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="lapidar-root-") as made:
        try:
            given.roots = given.roots or [bare_root(unittest.TestCase(), Path(made) / "bare")]
        except unittest.SkipTest as why:
            print(f"no root can be made here ({why})\n0 passed, 0 failed")
            return 0
        return tried_all(given)


def tried_all(given: argparse.Namespace) -> int:
    """Each environment on each root."""
    passed = failed = 0
    for recipe in recipes():
        if given.only and recipe.name not in given.only:
            continue
        with tempfile.TemporaryDirectory(prefix="lapidar-matrix-", dir=os.environ.get("TMPDIR")) as work:
            try:
                found = tried(recipe, [root.absolute() for root in given.roots], Path(work))
            except NotHere as why:
                print(f"{recipe.name}: not here ({why})", flush=True)
                continue
            except AssertionError as error:
                found = {"capture": str(error).strip().splitlines()[-1][:200]}
        for root, wrong in found.items():
            print(f"{recipe.name} on {root}: {wrong or 'as was told'}", flush=True)
            passed, failed = passed + (not wrong), failed + bool(wrong)
    print(f"{passed} passed, {failed} failed")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
