"""The made-up packages of the demo's index: words for glazes, and where the kilns were."""

from __future__ import annotations

from pathlib import Path

from lapidar.standin.packages import write_wheel
from lapidar.standin.r_packages import write_list, write_source_package

__all__ = ["MINUTES", "WALKING", "write", "write_member", "write_r", "write_releases"]

_WORDS = '''"""Words for glazes."""

MEANING = {"celadon": "grey-green, iron in reduction", "tenmoku": "black to brown, rich in iron", "ash": "wood ash"}
'''
_TEXT = '''"""Entries of a catalogue."""

from glazewords import MEANING


def entry(sherd, glaze):
    return f"{sherd}: {glaze} ({MEANING[glaze]})"
'''
_KILNS = '''"""Where the kilns were, in km of the excavation's grid."""

import math

PLACES = {"the upper kiln": (2.5, 4.0), "the kiln by the river": (8.8, 1.7)}


def nearest(east, north):
    distances = {name: math.dist((east, north), place) for name, place in PLACES.items()}
    name = min(distances, key=distances.get)
    return name, distances[name]
'''

# A build back end, as small as one can be: what src/ holds is the package.
_CLAYBUILD = '''"""Wheels of what lies in src/, and source archives."""

import io
import pathlib
import tarfile
import tomllib
import zipfile


def build_sdist(folder, config_settings=None):
    told = tomllib.loads(pathlib.Path("pyproject.toml").read_text())["project"]
    base = f"{told['name']}-{told['version']}"
    paths = [pathlib.Path("pyproject.toml"), *pathlib.Path("src").rglob("*.py")]
    files = {str(path): path.read_bytes() for path in paths}
    files["PKG-INFO"] = f"Metadata-Version: 2.1\\nName: {told['name']}\\nVersion: {told['version']}\\n".encode()
    with tarfile.open(pathlib.Path(folder, f"{base}.tar.gz"), "w:gz") as archive:
        for path, data in files.items():
            entry = tarfile.TarInfo(f"{base}/{path}")
            entry.size = len(data)
            archive.addfile(entry, io.BytesIO(data))
    return f"{base}.tar.gz"


def build_wheel(folder, config_settings=None, metadata_directory=None):
    told = tomllib.loads(pathlib.Path("pyproject.toml").read_text())["project"]
    info = f"{told['name']}-{told['version']}.dist-info"
    files = {path.relative_to("src").as_posix(): path.read_text() for path in sorted(pathlib.Path("src").rglob("*.py"))}
    files[f"{info}/METADATA"] = f"Metadata-Version: 2.1\\nName: {told['name']}\\nVersion: {told['version']}\\n"
    files[f"{info}/WHEEL"] = "Wheel-Version: 1.0\\nGenerator: claybuild\\nRoot-Is-Purelib: true\\nTag: py3-none-any\\n"
    files[f"{info}/RECORD"] = "".join(f"{name},,\\n" for name in [*files, f"{info}/RECORD"])
    name = f"{told['name']}-{told['version']}-py3-none-any.whl"
    with zipfile.ZipFile(pathlib.Path(folder, name), "w") as wheel:
        for path, text in files.items():
            wheel.writestr(path, text)
    return name
'''
_FINDLIST = '''"""How many finds there are of each glaze."""

import collections
import csv
import sys


def main():
    with open(sys.argv[1]) as lines:
        counted = collections.Counter(row["glaze"] for row in csv.DictReader(lines))
    for glaze, count in sorted(counted.items()):
        print(f"{glaze}: {count}")
'''
WALKING = """\
[project]
name = "walking"
version = "0.1"

[build-system]
requires = ["claybuild"]
build-backend = "claybuild"
"""
MINUTES = '''"""How long one walks."""


def minutes(km):
    return round(km / {speed} * 60)
'''

_SHERDSTATS = """\
# Percentages that add up to 100 are not free of each other; ratios to their geometric mean are.
centred_log_ratio <- function(parts) {
  logs <- log(parts)
  logs - rowMeans(logs)
}

# Scores, loadings, and the share of the variance that each component explains.
principal_components <- function(table) {
  centred <- scale(table, center = TRUE, scale = FALSE)
  found <- svd(centred)
  largest <- apply(abs(found$v), 2, which.max)
  signs <- sign(found$v[cbind(largest, seq_along(largest))])
  list(
    scores = sweep(found$u, 2, found$d * signs, "*"),
    loadings = sweep(found$v, 2, signs, "*"),
    explained = found$d^2 / sum(found$d^2)
  )
}

# How much nearer a sherd is to its own group than to the next one, on average (-1 to 1).
mean_silhouette <- function(scores, groups) {
  distances <- as.matrix(dist(scores))
  widths <- vapply(seq_along(groups), function(at) {
    to <- split(distances[at, ], groups)
    own <- as.character(groups[at])
    inside <- sum(to[[own]]) / max(length(to[[own]]) - 1, 1)
    outside <- min(vapply(to[names(to) != own], mean, 0))
    (outside - inside) / max(outside, inside)
  }, 0)
  mean(widths)
}
"""


def write_r(folder: Path) -> None:
    """Write the repository of the demo's R package."""
    contrib = folder / "src" / "contrib"
    files = {
        "NAMESPACE": "export(centred_log_ratio, principal_components, mean_silhouette)\nimportFrom(stats, dist)\n",
        "R/sherdstats.R": _SHERDSTATS,
    }
    for version in ("0.9", "1.1"):
        write_source_package(contrib, "sherdstats", version, files, Imports="stats", Published="2026-02-01")
    write_list(contrib)


def write_member(folder: Path, speed: float) -> None:
    """Write a package in source form, as somebody edits it; `speed` is in km an hour."""
    (folder / "src" / "walking").mkdir(parents=True, exist_ok=True)
    (folder / "pyproject.toml").write_text(WALKING)
    (folder / "src" / "walking" / "__init__.py").write_text(MINUTES.format(speed=speed))


def write_releases(folder: Path) -> None:
    """Write a newer release of each: one of them has one kiln at another place, and says nothing of it."""
    moved = _KILNS.replace("(2.5, 4.0)", "(2.54, 4.0)")
    write_wheel(
        folder, "glazewords", "1.5", {"glazewords.py": _WORDS.replace('"wood ash"', '"wood ash", "slip": "thin clay"')}
    )
    write_wheel(folder, "sherdtext", "1.3", {"sherdtext.py": _TEXT}, requires=["glazewords>=1,<2"])
    write_wheel(folder, "kiln-map", "0.9.1", {"kilns/__init__.py": moved, "kiln_map.py": ""})


def write(folder: Path) -> None:
    """Write the wheels of the demo's index."""
    folder.mkdir(parents=True, exist_ok=True)
    for version in ("1.0", "1.4", "2.0"):
        write_wheel(folder, "glazewords", version, {"glazewords.py": _WORDS})
    write_wheel(folder, "sherdtext", "1.2", {"sherdtext.py": _TEXT}, requires=["glazewords>=1,<2"])
    write_wheel(folder, "claybuild", "1.0", {"claybuild.py": _CLAYBUILD})
    points = "[console_scripts]\nfindlist = findlist:main\n"
    for version in ("0.3", "0.4"):
        write_wheel(folder, "findlist", version, {"findlist.py": _FINDLIST}, entry_points=points)
    # A distribution whose module is called otherwise.
    write_wheel(folder, "kiln-map", "0.9", {"kilns/__init__.py": _KILNS, "kiln_map.py": ""})
    needs = ["glazewords>=2"]
    write_wheel(folder, "kiln-map", "1.1", {"kilns/__init__.py": _KILNS, "kiln_map.py": ""}, requires=needs)
