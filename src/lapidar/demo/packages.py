"""The made-up packages of the demo's index: words for glazes, and where the kilns were."""

from __future__ import annotations

from pathlib import Path

from lapidar.standin.packages import write_wheel

__all__ = ["write", "write_release"]

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


def write_release(folder: Path) -> None:
    """Write a newer release of one of them: it says nothing of it, and has one kiln at another place."""
    moved = _KILNS.replace("(2.5, 4.0)", "(2.54, 4.0)")
    write_wheel(folder, "kiln-map", "0.9.1", {"kilns/__init__.py": moved, "kiln_map.py": ""})


def write(folder: Path) -> None:
    """Write the wheels of the demo's index."""
    folder.mkdir(parents=True, exist_ok=True)
    for version in ("1.0", "1.4", "2.0"):
        write_wheel(folder, "glazewords", version, {"glazewords.py": _WORDS})
    write_wheel(folder, "sherdtext", "1.2", {"sherdtext.py": _TEXT}, requires=["glazewords>=1,<2"])
    # A distribution whose module is called otherwise.
    write_wheel(folder, "kiln-map", "0.9", {"kilns/__init__.py": _KILNS, "kiln_map.py": ""})
    needs = ["glazewords>=2"]
    write_wheel(folder, "kiln-map", "1.1", {"kilns/__init__.py": _KILNS, "kiln_map.py": ""}, requires=needs)
