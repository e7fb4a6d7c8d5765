"""What an old project says of its runtime without declaring it: the notebooks' kernels, and the wheels that there are
of what is pinned exactly."""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from packaging.version import InvalidVersion, Version

from lapidar.core import foreign
from lapidar.core.errors import IndexTrouble
from lapidar.core.languages.python.requirements import requirement_of
from lapidar.core.languages.python.survey import sources
from lapidar.core.records.declaration import Need

if TYPE_CHECKING:
    from lapidar.core.languages.python.index.indexes import Indexes

__all__ = ["of_notebooks", "of_pins"]

_TAG = re.compile(r"^cp3(\d+)$")


def of_notebooks(root: Path) -> str:
    """The line of versions (``3.8``) that most notebooks were saved with (nbformat 4, language_info); "" for none."""
    found: Counter[str] = Counter()
    for file in sources.find(root):
        if not file.endswith(".ipynb"):
            continue
        try:
            told = foreign.parsed(lambda file=file: json.loads(foreign.read_text(root / file)))  # type: ignore[misc]
            info = told["metadata"]["language_info"]
            release = Version(str(info["version"])).release
        except (OSError, ValueError, KeyError, TypeError, InvalidVersion):
            continue
        if info.get("name") == "python" and len(release) > 1:
            found[f"{release[0]}.{release[1]}"] += 1
    return found.most_common(1)[0][0] if found else ""


def of_pins(needs: Iterable[Need], indexes: Indexes) -> str:
    """The newest line of versions that there are wheels for of most of what is pinned exactly; "" where that tells
    nothing."""
    count: Counter[int] = Counter()
    exact = {need.name: version for need in needs if (version := _exactly(need))}
    indexes.ask_ahead(exact)
    for name, version in exact.items():
        try:
            files = indexes.files(name)
        except IndexTrouble:
            continue
        minors = {
            int(matched[1])
            for file in files
            if file.is_wheel and len(parts := file.name.split("-")) > 4 and _is(parts[1], version)
            for tag in parts[-3].split(".")
            if (matched := _TAG.match(tag))
        }
        count.update(minors)
    if not count:
        return ""
    most = max(count.values())
    return f"3.{max(minor for minor, times in count.items() if times == most)}"


def _exactly(need: Need) -> Version | None:
    for one in requirement_of(need).specifier:
        if one.operator == "==" and not one.version.endswith(".*"):
            return Version(one.version)
    return None


def _is(text: str, version: Version) -> bool:
    try:
        return Version(text) == version
    except InvalidVersion:
        return False
