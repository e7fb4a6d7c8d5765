"""make.py FOLDER: write a capsule as this program writes it: a cache, and a small project of each language that has a
lockfile, a history of two snapshots and recorded results in it.

Run once for a version, by hand, where CPython 3.11 (a shared build) and R are: `tests/capsules/VERSION/` is then there for
every later version to read (`test_capsules.py`): an archive in parts, for large files travel badly with version control. The runtimes are real, and as small as they run: of CPython a
handful of modules, of R the package `base`, with empty libraries in place of those that such a run never calls.
"""

from __future__ import annotations

import io
import lzma
import os
import re
import shutil
import subprocess
import sys
import tarfile
from pathlib import Path

from lapidar._version import VERSION
from lapidar.standin.packages import write_wheel

PROGRAM = str(Path(sys.executable).with_name("lapidar"))
FILTERS = [{"id": lzma.FILTER_X86}, {"id": lzma.FILTER_LZMA2, "preset": 9 | lzma.PRESET_EXTREME}]  # machine code mostly

MOST_BYTES = 2_000_000  # of a part

MODULES = """abc bisect codecs collections contextlib copyreg csv enum fnmatch functools genericpath heapq importlib io json
keyword linecache locale numbers operator os pkgutil platform posixpath re reprlib runpy selectors shutil signal site
sre_compile sre_constants sre_parse stat string struct subprocess sysconfig textwrap threading token tokenize traceback
types warnings weakref zipimport _collections_abc _sitebuiltins _weakrefset __future__""".split()
ENCODINGS = "__init__ aliases ascii latin_1 utf_8".split()
COMPILED = "_bisect _csv _heapq _json _posixsubprocess _struct fcntl math select".split()

LIBRARIES = """libbz2.so.1.0 libgomp.so.1 liblzma.so.5 libpcre2-8.so.0 libreadline.so.8 libtinfo.so.6 libtirpc.so.3
libz.so.1""".split()
NEVER_CALLED = {
    "libblas.so.3": "",
    "libgssapi_krb5.so.2": "",
    "libicui18n.so.72": "void *ucol_open_72(void) { return 0; }",
    "libicuuc.so.72": "void uloc_setDefault_72(void) {}",
}

SHERDS = "sherd,lead,tin\nA1,41.5,3.25\nA2,39.75,3.5\nB1,22.125,7.0\nB2,23.5,6.75\n"
FIT = """import csv, json
from glazes import kiln
with open("sherds.csv") as source:
    kilns = {row["sherd"]: kiln(float(row["lead"]), float(row["tin"])) for row in csv.DictReader(source)}
with open("kilns.json", "w") as out:
    json.dump(kilns, out, indent=1)
"""
GLAZES = """def kiln(lead, tin):
    return "{north}" if lead / tin > 8 else "south"
"""
FIT_R = """library(glazes)
sherds <- matrix(scan("sherds.csv", "", sep = ",", skip = 1, quiet = TRUE), ncol = 3, byrow = TRUE)
ratio <- as.numeric(sherds[, 2]) / as.numeric(sherds[, 3])
writeLines(c("sherd,kiln", paste(sherds[, 1], kiln(ratio), sep = ",")), "kilns.csv")
saveRDS(ratio, "ratio.rds")
"""


def run(*words: object, **settings: object) -> None:
    subprocess.run([str(word) for word in words], check=True, **settings)  # type: ignore[call-overload]


def small_python(place: Path) -> Path:
    """CPython 3.11 with what starting it and these analyses need; the interpreter."""
    found = shutil.which("python3.11")
    base = Path(subprocess.check_output([found or "", "-c", "import sys; print(sys.base_prefix)"], text=True).strip())
    of, to = base / "lib/python3.11", place / "lib/python3.11"
    for folder in ("bin", "lib/python3.11/encodings", "lib/python3.11/lib-dynload"):
        (place / folder).mkdir(parents=True)
    for name in MODULES:
        if (of / name).is_dir():
            skipped = shutil.ignore_patterns("__pycache__", "metadata", "resources")
            shutil.copytree(of / name, to / name, ignore=skipped)
        else:
            shutil.copy(of / f"{name}.py", to)
    for name in ENCODINGS:
        shutil.copy(of / f"encodings/{name}.py", to / "encodings")
    built = next(of.glob("_sysconfigdata_*.py"))
    (to / built.name).write_text(built.read_text().replace(str(base), "/usr"))
    compiled = [next((of / "lib-dynload").glob(f"{name}.*.so")) for name in COMPILED]
    for file, folder in [(base / "bin/python3.11", "bin"), (next(base.glob("lib/libpython3.11.so.*")), "lib")] + [
        (file, "lib/python3.11/lib-dynload") for file in compiled
    ]:
        run("strip", "-o", place / folder / file.name, file)
    _replace(place / "bin/python3.11", f"{base}/lib", "$ORIGIN/../lib")
    return place / "bin/python3.11"


def small_r(home: Path) -> Path:
    """R with the package `base` alone; its front end. Its path must be as long as that of R here: Rscript holds it."""
    here = Path(subprocess.check_output(["R", "RHOME"], text=True).strip())
    for folder in ("bin/exec", "lib", "etc", "library", "site-library", "share", "include", "doc"):
        (home / folder).mkdir(parents=True)
    for name in ("bin/exec/R", "lib/libR.so"):
        run("strip", "-o", home / name, here / name)
    for name in LIBRARIES:
        found = next(path for path in Path("/lib").glob(f"*/{name}"))
        run("strip", "-o", home / "lib" / name, found.resolve())
    for name, source in NEVER_CALLED.items():
        _library(home / "lib", name, source)
    shutil.copytree(here / "library/base", home / "library/base", ignore=shutil.ignore_patterns("help", "html", "demo"))
    settings = [line for line in (here / "etc/Renviron").read_text().splitlines() if not line.startswith("R_LIBS_")]
    settings += ["R_DEFAULT_PACKAGES=NULL", "R_ENABLE_JIT=0", "R_LIBS_SITE=${R_HOME}/site-library"]
    (home / "etc/Renviron").write_text("\n".join(settings) + "\n")
    shutil.copy(here / "etc/ldpaths", home / "etc/ldpaths", follow_symlinks=True)
    script = (here / "bin/R").read_text().replace(f"R_HOME_DIR={here}\n", f"R_HOME_DIR={home}\n", 1)
    (home / "bin/R").write_text(re.sub(r"/usr/share/R/(\w+)", rf"{home}/\1", script))
    (home / "bin/R").chmod(0o755)
    shutil.copy(here / "bin/Rscript", home / "bin/Rscript")
    _replace(home / "bin/Rscript", str(here), str(home))
    return home / "bin/R"


def _library(folder: Path, name: str, source: str) -> None:
    """A library that has what others here ask of one of this name, and does nothing."""
    if name == "libgssapi_krb5.so.2":  # the only one whose names are bound at once, with a version
        asked = subprocess.check_output(["nm", "-D", "--undefined-only", folder / "libtirpc.so.3"], text=True)
        source = "".join(f"void *{symbol};" for symbol in re.findall(r"\b(\w+)@gssapi_krb5", asked))
        (folder / "map").write_text("gssapi_krb5_2_MIT { global: *; };")
    options = [f"-Wl,--version-script={folder}/map"] if (folder / "map").exists() else []
    options += ["-nostdlib", "-shared", "-fPIC", "-Os", "-s", f"-Wl,-soname,{name}"]
    run("gcc", "-x", "c", "-", *options, "-o", folder / name, input=source, text=True)
    (folder / "map").unlink(missing_ok=True)


def _replace(program: Path, old: str, new: str) -> None:
    """A path inside of a program, by another that is no longer."""
    data = program.read_bytes()
    if len(new) > len(old) or data.count(old.encode() + b"\0") != 1:
        raise SystemExit(f"make.py: {program} does not hold {old} once, or {new} is longer")
    program.write_bytes(data.replace(old.encode() + b"\0", new.encode().ljust(len(old) + 1, b"\0")))


def python_project(project: Path, python: Path, wheels: Path) -> None:
    """Pinned from a folder of wheels, and pinned again; the analysis recorded with the newer one."""
    for version, north in (("1.0", "nord"), ("1.1", "north")):
        write_wheel(wheels, "glazes", version, {"glazes.py": GLAZES.format(north=north)})
    (project / "sherds.csv").write_text(SHERDS)
    (project / "fit.py").write_text(FIT)
    (project / "lapidar.toml").write_text(f'[index]\nlab = "{wheels}"\n')
    for need in ("glazes==1.0", "glazes==1.1"):
        run(PROGRAM, "need", need, "--runtime", python, "--yes", cwd=project)
    run(PROGRAM, "record", "fit", "--", "python", "fit.py", cwd=project)


def r_project(project: Path, front_end: Path) -> None:
    """Captured as it is, and again with another version of its package; the analysis recorded with that."""
    (project / "sherds.csv").write_text(SHERDS)
    (project / "fit.R").write_text(FIT_R)
    for version, south in (("1.0", "south"), ("1.1", "South")):
        source = project / "glazes"
        (source / "R").mkdir(parents=True)
        (source / "DESCRIPTION").write_text(
            f"Package: glazes\nVersion: {version}\nTitle: Glazes\nLicense: none\nDescription: Made up.\n"
        )
        (source / "NAMESPACE").write_text("export(kiln)\n")
        (source / "R/kiln.R").write_text(f'kiln <- function(ratio) ifelse(ratio > 8, "north", "{south}")\n')
        run("R", "CMD", "INSTALL", "--no-docs", f"--library={front_end.parent.parent}/site-library", source)
        shutil.rmtree(source)
        run(PROGRAM, "capture", front_end, cwd=project)
    run(PROGRAM, "restore", cwd=project)
    run(PROGRAM, "record", "fit", "--", "Rscript", "fit.R", cwd=project)


def main(place: Path) -> None:
    os.environ |= {"LAPIDAR_CACHE": str(place / "cache"), "HOME": str(place / "home")}
    projects = {language: place / language for language in ("python", "r")}
    for folder in (*projects.values(), place / "home", place / "wheels"):
        folder.mkdir(parents=True)
    python = small_python(place / "small")
    r = small_r(Path("/tmp/small"))  # as long as Debian's own
    os.environ["PATH"] = f"{python.parent}:{os.environ['PATH']}"
    python_project(projects["python"], python, place / "wheels")
    r_project(projects["r"], r)
    packed = io.BytesIO()
    with lzma.open(packed, "wb", filters=FILTERS) as stream, tarfile.open(fileobj=stream, mode="w") as archive:
        for name in ("cache", *projects):
            archive.add(place / name, name)
    (place / VERSION).mkdir()
    data = packed.getvalue()
    for number, at in enumerate(range(0, len(data), MOST_BYTES), 1):
        (place / VERSION / f"{number}.tar.xz.part").write_bytes(data[at : at + MOST_BYTES])


if __name__ == "__main__":
    main(Path(sys.argv[1]).resolve())
