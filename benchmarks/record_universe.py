"""Record a universe from a real index: versions and needs only, names taken away. Run by hand; writes universe.json.

    LAPIDAR_INDEX=https://packages.example/simple python benchmarks/record_universe.py PROJECT

PROJECT has a lapidar.lock: its packages, with their newest versions, are what is recorded.
"""

from __future__ import annotations

import json
import re
import sys
import tempfile
from pathlib import Path

from packaging.requirements import InvalidRequirement, Requirement
from packaging.utils import canonicalize_name

from lapidar.core.cache.store import Cache
from lapidar.core.declaring import reading
from lapidar.core.languages.python.pinning.session import opened
from lapidar.core.pinning.session import PinOptions, PinRequest
from lapidar.core.place import Place
from lapidar.core.progress import Silent
from lapidar.core.records import lockfile

NEWEST = 10


def main() -> None:
    project = Place.of_project(Path(sys.argv[1]).resolve())
    snapshot = lockfile.read(project.lockfile)
    names = {package.name: f"package-{at:03}" for at, package in enumerate(snapshot.packages)}
    universe: dict[str, dict[str, list[str]]] = {}
    declaration = reading.read(project)
    with tempfile.TemporaryDirectory() as folder:
        cache = Cache(Path(folder) / "cache", create=True)
        with opened(PinRequest(project, cache, declaration, snapshot, PinOptions(), Silent())) as pinning:
            candidates = pinning.market
            for name in names:
                fitting = [release for release in candidates.releases(name) if not release.reason]
                wheels = [release for release in fitting if release.is_built][:NEWEST]
                for release in wheels:
                    pinning.indexes.metadata_ahead(candidates.file(name, release.version))
                universe[names[name]] = {}
                for release in wheels:
                    metadata = candidates.metadata(name, release.version)
                    if metadata:
                        needs = [renamed(text, names) for text in metadata.requires]
                        universe[names[name]][str(release.version)] = [need for need in needs if need]
    asked = sorted(names[need.name] for need in declaration.needs if need.name in names)
    text = json.dumps({"asked": asked, "packages": universe}, indent=0, sort_keys=True)
    Path(__file__).with_name("universe.json").write_text(text + "\n")


def renamed(text: str, names: dict[str, str]) -> str | None:
    """A need with the name taken away; None where it is of a package outside, or of an extra."""
    try:
        requirement = Requirement(text)
    except InvalidRequirement:
        return None
    name = names.get(canonicalize_name(requirement.name))
    if name is None or (requirement.marker and "extra" in str(requirement.marker)):
        return None
    marker = f" ; {requirement.marker}" if requirement.marker else ""
    return re.sub(r"\s+", " ", f"{name}{requirement.specifier}{marker}")


if __name__ == "__main__":
    main()
