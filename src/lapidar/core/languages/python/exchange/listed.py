"""Requirements-style lists with digests, for programs that read no other lock."""

from __future__ import annotations

from lapidar.core.languages.python.standards import direct_url
from lapidar.core.records.snapshot import Package, Snapshot

__all__ = ["render"]


def render(snapshot: Snapshot) -> tuple[str, list[str]]:
    """The list of a snapshot's packages.

    Returns:
        The text, and the names of packages that have no digest of a file, so that such programs take them on trust.
    """
    runtime = snapshot.runtime_of("python")
    lines = ["# Written by lapidar from lapidar.lock.", f"# Python {runtime.version if runtime else ''}".rstrip()]
    without = []
    for package in snapshot.packages:
        if package.language != "python":
            continue
        line = _line(package)
        lines.append(line)
        if "--hash" not in line:
            without.append(package.name)
    return "\n".join(lines) + "\n", without


def _line(package: Package) -> str:
    origin = package.origin
    if origin.kind == "version-control" and origin.url:
        return f"{package.name} @ {direct_url.reference(origin)}"
    what = f"{package.name} @ {origin.url}" if origin.kind == "archive" and origin.url else ""
    what = what or f"{package.name}=={package.version}"
    return f"{what} \\\n    --hash=sha256:{origin.sha256}" if origin.sha256 else what
