"""The made-up worlds that the pages of the guide (docs/guide) are typed in: a project, and indexes beside it."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from types import MappingProxyType

from lapidar.demo import packages
from lapidar.standin.index import StandInIndex

__all__ = ["PAGES", "opened"]

_WORDS = """\
from glazewords import MEANING

print("ash glaze:", MEANING["ash"])
"""
_MAP = """\
from kilns import nearest

name, distance = nearest(3.0, 4.5)
print(f"nearest: {name}, {distance:.3f} km")
"""
_ENTRY = """\
from sherdtext import entry

print(entry("sherd 17", "celadon"))
"""
_IN_R = """\
library(sherdstats)

chemistry <- matrix(c(61, 12, 27, 58, 15, 27, 70, 10, 20, 66, 11, 23), ncol = 3, byrow = TRUE)
print(round(principal_components(centred_log_ratio(chemistry))$explained, 4))
"""

_WALK = """\
from walking import minutes

print("to the upper kiln:", minutes(2.4), "minutes")
"""
_MAILED = """\
# /// script
# dependencies = ["glazewords<2"]
# ///
from glazewords import MEANING

print("tenmoku:", MEANING["tenmoku"])
"""

_FINDS = """\
sherd,glaze,east,north
1,ash,3.0,4.5
2,ash,2.0,4.0
3,celadon,8.5,1.5
"""
_DISTANCES = """\
import csv
from kilns import nearest

with open("raw/finds.csv") as finds, open("distances.csv", "w") as out:
    for row in csv.DictReader(finds):
        kiln, distance = nearest(float(row["east"]), float(row["north"]))
        print(row["sherd"], row["glaze"], kiln, f"{distance:.3f}", sep=",", file=out)
"""
_REPORT = """\
import csv
from glazewords import MEANING

rows = list(csv.reader(open("distances.csv")))
with open("report.txt", "w") as out:
    for glaze in sorted({row[1] for row in rows}):
        several = [float(row[3]) for row in rows if row[1] == glaze]
        print(f"{glaze} ({MEANING[glaze]}): {sum(several) / len(several):.2f} km", file=out)
"""

# By the name of each page, the files of its project.
PAGES: Mapping[str, Mapping[str, str]] = MappingProxyType(
    {
        "first-steps": {"fit.py": _WORDS},
        "new-analysis": {"fit.py": _WORDS},
        "old-project": {
            "fit.py": _WORDS,
            "requirements.txt": "--find-links /home/colleague/wheels\nglazewords==1.0\nargparse\n",
        },
        "daily-work": {"lapidar.toml": '[needs]\npackages = ["sherdtext"]\n', "fit.py": _ENTRY},
        "after-an-update": {
            "lapidar.toml": '[needs]\npackages = ["glazewords==1.4", "kiln-map==0.9", "sherdtext==1.2"]\n',
            "fit.py": _MAP,
        },
        "several-analyses": {
            "lapidar.toml": '[needs]\npackages = ["glazewords==1.4", "kiln-map==0.9", "sherdtext==1.2"]\n',
            "raw/finds.csv": _FINDS,
            "distances.py": _DISTANCES,
            "report.py": _REPORT,
        },
        "another-machine": {"lapidar.toml": '[needs]\npackages = ["glazewords<2"]\n', "fit.py": _WORDS},
        "analysis-in-r": {"analysis.R": _IN_R},
        "own-packages": {
            "walk.py": _WALK,
            "libs/walking/pyproject.toml": packages.WALKING,
            "libs/walking/src/walking/__init__.py": packages.MINUTES.format(speed=4.0),
        },
        "scripts-and-programs": {
            "lapidar.toml": '[needs]\npackages = ["glazewords<2"]\n',
            "fit.py": _WORDS,
            "mailed.py": _MAILED,
            "finds.csv": "sherd,glaze\n1,celadon\n2,tenmoku\n3,celadon\n",
        },
        "older-code": {"lapidar.toml": '[needs]\npackages = ["kiln-map==0.9"]\n', "fit.py": _MAP},
    }
)


@contextmanager
def opened(page: str, folder: Path) -> Iterator[tuple[Path, dict[str, str]]]:
    """The world of a page; its index answers as long as it is open.

    Args:
        folder: empty; all of it lies there.

    Yields:
        The project's folder, and the variables of whoever works in it: the indexes, a cache of its own, no
        configuration, no environment that is active, and this program on PATH.
    """
    index, repository, project = folder / "index", folder / "repository", folder / "project"
    packages.write(index)
    packages.write_releases(index)
    packages.write_r(repository)
    project.mkdir()
    for name, text in PAGES[page].items():
        (project / name).parent.mkdir(parents=True, exist_ok=True)
        (project / name).write_text(text, encoding="utf-8")
    variables = {name: text for name, text in os.environ.items() if name != "VIRTUAL_ENV"}
    with StandInIndex(index) as server:
        yield (
            project,
            variables
            | {
                "LAPIDAR_INDEX": f"{server.address} r={repository}",
                "LAPIDAR_CACHE": str(folder / "cache"),
                "XDG_CONFIG_HOME": str(folder / "config"),
                "XDG_DATA_HOME": str(folder / "data"),
                "LAPIDAR_BIN": str(folder / "bin"),
                "PATH": f"{Path(sys.argv[0]).resolve().parent}:{folder / 'bin'}:{variables.get('PATH', os.defpath)}",
            },
        )
