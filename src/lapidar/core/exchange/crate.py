"""A recorded analysis as a research object: RO-Crate 1.2 with the profile of process runs (Process Run Crate 0.5),
ready for a repository of research data.

The same record gives the same bytes, and what the project says of itself: its authors and its licence.
"""

from __future__ import annotations

import datetime
import json
import mimetypes
import posixpath
import re
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any
from urllib.parse import quote

import tomli
from msgspec import Struct

from lapidar.core import foreign, languages
from lapidar.core.cache.digest import sha256_of
from lapidar.core.place import LOCKFILE_NAME, Place
from lapidar.core.records.results import Analysis, RecordedFile
from lapidar.core.records.snapshot import Snapshot

__all__ = ["METADATA", "Told", "about", "metadata"]

METADATA = "ro-crate-metadata.json"
_CRATE = "https://w3id.org/ro/crate/1.2"
_PROCESS = "https://w3id.org/ro/wfrun/process/0.5"
_TERMS = "https://w3id.org/ro/terms/workflow-run/context"
_NO_LICENCE = "No licence is stated; ask the authors."


class Told(Struct, frozen=True):
    """What a project says of itself.

    Attributes:
        authors: names, each with an address of electronic mail or "".
        licence: "" for none.
    """

    name: str
    description: str = ""
    authors: tuple[tuple[str, str], ...] = ()
    licence: str = ""


def about(place: Place, name: str) -> Told:
    """What a project's pyproject-style table says of it, as far as it has one."""
    try:
        told = foreign.parsed(lambda: tomli.loads(foreign.read_text(place.root / "pyproject.toml"))).get("project", {})
    except (OSError, ValueError):
        told = {}
    if not isinstance(told, dict):
        told = {}
    named = [one for one in told.get("authors", []) if isinstance(one, dict)]
    authors = [one for one in named if one.get("name") or one.get("email")]
    licence = told.get("license", "")
    if isinstance(licence, dict):
        licence = licence.get("text") or licence.get("file") or ""
    return Told(
        name=name,
        description=str(told.get("description", "")),
        authors=tuple((str(one.get("name") or one["email"]), str(one.get("email", ""))) for one in authors),
        licence=str(licence),
    )


def metadata(told: Told, analysis: Analysis, snapshot: Snapshot, ended: float, folder: Path) -> str:
    """The text of ``ro-crate-metadata.json``.

    Args:
        analysis: with all of its lists.
        ended: when the record was made, in seconds since 1970.
        folder: has all files of the crate.
    """
    when = datetime.datetime.fromtimestamp(ended, datetime.UTC).isoformat(timespec="seconds")
    paths = sorted(path.relative_to(folder).as_posix() for path in folder.rglob("*") if path.is_file())
    files = {path: _file(path, folder) for path in paths if path != METADATA}
    people = [_person(number, *one) for number, one in enumerate(told.authors, 1)]
    software = list(_software(snapshot))
    script = _script(analysis, files)
    instrument: dict[str, Any] = {
        "@id": _id(script) if script else "#command",
        "@type": ["File", "SoftwareSourceCode", "SoftwareApplication"] if script else "SoftwareApplication",
        "name": script or analysis.command[0],
        "softwareRequirements": _refs(one["@id"] for one in software),
    }
    if script:
        instrument = {**files.pop(script), **instrument}
    root: dict[str, Any] = {
        "@id": "./",
        "@type": "Dataset",
        "name": told.name,
        "description": told.description or f"The analysis {analysis.name}: sources, inputs, results and environment.",
        "datePublished": when[:10],
        "license": told.licence or _NO_LICENCE,
        "conformsTo": {"@id": _PROCESS},
        "hasPart": _refs(_id(path) for path in paths if path != METADATA),
        "mentions": {"@id": "#run"},
    }
    if people:
        root["author"] = _refs(one["@id"] for one in people)
    run: dict[str, Any] = {
        "@id": "#run",
        "@type": "CreateAction",
        "name": f"{analysis.name}: {' '.join(analysis.command)}",
        "description": f"Run in {analysis.folder} with snapshot {analysis.snapshot}; exit code {analysis.exit_code}.",
        "instrument": {"@id": instrument["@id"]},
        "object": _refs(_present((one for one in analysis.input if one.name != script), paths)),
        "result": _refs(_present(analysis.result, paths)),
        "endTime": when,
        "actionStatus": {"@id": "http://schema.org/CompletedActionStatus"},
    }
    if people:
        run["agent"] = {"@id": people[0]["@id"]}
    graph = [
        {
            "@id": METADATA,
            "@type": "CreativeWork",
            "about": {"@id": "./"},
            "conformsTo": {"@id": _CRATE},
        },
        root,
        {"@id": _PROCESS, "@type": "CreativeWork", "name": "Process Run Crate", "version": "0.5"},
        run,
        instrument,
        *files.values(),
        *software,
        *people,
    ]
    whole = {"@context": [f"{_CRATE}/context", _TERMS], "@graph": graph}
    return json.dumps(whole, indent=2, ensure_ascii=False) + "\n"


def _script(analysis: Analysis, files: Iterable[str]) -> str:
    """The file of the project that the command runs; "" where it runs none."""
    there = set(files)
    named = [posixpath.normpath(posixpath.join(analysis.folder, word)) for word in analysis.command]
    return next((path for path in (*named, *(one.name for one in analysis.source)) if path in there), "")


def _id(path: str) -> str:
    """A path as the identifier of a file: a relative URI."""
    return quote(path, safe="/!$&'()*+,;=:@~-._")


def _refs(ids: Iterable[str]) -> list[dict[str, str]]:
    return [{"@id": one} for one in dict.fromkeys(ids)]


def _present(recorded: Iterable[RecordedFile], paths: Iterable[str]) -> Iterator[str]:
    there = set(paths)
    yield from (_id(one.name) for one in recorded if one.name in there)


def _file(path: str, folder: Path) -> dict[str, Any]:
    file = folder / path
    kind = "application/toml" if path == LOCKFILE_NAME else mimetypes.guess_type(path)[0]
    found: dict[str, Any] = {
        "@id": _id(path),
        "@type": "File",
        "name": path,
        "contentSize": str(file.stat().st_size),
        "sha256": sha256_of(str(file)),
    }
    return {**found, "encodingFormat": kind} if kind else found


def _person(number: int, name: str, mail: str) -> dict[str, Any]:
    address = mail if re.fullmatch(r"[^@\s]+@[^@\s]+", mail) else ""
    found = {"@id": f"mailto:{address}" if address else f"#person-{number}", "@type": "Person", "name": name}
    return {**found, "email": address} if address else found


def _software(snapshot: Snapshot) -> Iterator[dict[str, Any]]:
    """The runtimes and packages of the environment."""
    for runtime in snapshot.runtimes:
        yield {
            "@id": f"#runtime-{runtime.language}",
            "@type": "SoftwareApplication",
            "name": runtime.implementation,
            "softwareVersion": runtime.version,
            "operatingSystem": f"{snapshot.platform.system} {snapshot.platform.machine}",
        }
    for one in snapshot.packages:
        kind = languages.of(one.language).package_urls
        yield {
            "@id": f"#{one.language}-{_id(one.name)}",
            "@type": "SoftwareApplication",
            "name": one.name,
            "softwareVersion": one.version,
            "identifier": f"pkg:{kind}/{_id(one.name)}@{_id(one.version)}",
        }
