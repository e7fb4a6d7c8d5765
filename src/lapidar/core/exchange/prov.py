"""The lineage of a file as W3C PROV (PROV-DM), written as PROV-JSON by the `prov` library: files are entities, each
known by its digest; runs of analyses are activities."""

from __future__ import annotations

import datetime
import shlex
from pathlib import Path
from typing import Any

from lapidar.core import atomic
from lapidar.core.errors import LapidarError
from lapidar.core.records.results import RecordedFile
from lapidar.core.steps.lineage import Lineage

__all__ = ["write"]

# Names of our own in the document; nothing lies at the address.
_SPACES = {"file": "urn:sha256:", "run": "urn:lapidar:record:", "lapidar": "urn:lapidar:"}


def write(lineage: Lineage, into: Path) -> None:
    """Write a lineage.

    Raises:
        LapidarError: the library is not installed.
    """
    try:
        from prov.model import ProvDocument
    except ImportError as error:
        raise LapidarError("PROV cannot be written: prov is missing", remedy="Install lapidar[exchange].") from error
    document = ProvDocument()
    for prefix, address in _SPACES.items():
        document.add_namespace(prefix, address)
    for one in lineage.made:
        analysis = one.step.analysis
        assert analysis is not None
        ended = datetime.datetime.fromtimestamp(one.when, datetime.UTC) if one.when else None
        told: dict[str, Any] = {
            "prov:label": one.step.name,
            "lapidar:command": shlex.join(one.step.command),
            "lapidar:snapshot": analysis.snapshot,
            "lapidar:numerics": analysis.numerics,
        }
        if one.packages:
            told["lapidar:used"] = ", ".join(one.packages)
        run = document.activity(f"run:{analysis.record}", None, ended, told)
        for file, _ in one.sources:
            document.used(run, _entity(document, file), other_attributes={"prov:role": "source"})
        for file, _ in one.inputs:
            document.used(run, _entity(document, file), other_attributes={"prov:role": "input"})
        for file, _ in one.results:
            document.wasGeneratedBy(_entity(document, file), run, ended)
    atomic.write_file(into, (document.unified().serialize(format="json", indent=1) + "\n").encode("utf-8"))


def _entity(document: Any, file: RecordedFile) -> Any:
    return document.entity(f"file:{file.sha256}", {"prov:label": file.path, "lapidar:bytes": file.bytes})
