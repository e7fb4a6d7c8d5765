"""DESCRIPTION files of R's packages (records of fields, as ``read.dcf`` reads them)."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from pathlib import Path

from msgspec import Struct

from lapidar.core import foreign
from lapidar.core.languages.fields import records
from lapidar.core.languages.r import requirements, versions
from lapidar.core.languages.r.requirements import Requirement

__all__ = ["BUILT", "FILE_NAME", "RUN_TIME", "Built", "Description", "parse", "read"]

FILE_NAME = "DESCRIPTION"
RUN_TIME = ("Depends", "Imports")  # what must be there for a package to be loaded
BUILT = (*RUN_TIME, "LinkingTo")  # and to be built from source
_RUNTIME = "R"  # the name that stands for R itself among what is depended on
# What R calls encodings in a DESCRIPTION, where their registered name is another.
_ENCODINGS = {"latin-9": "iso-8859-15", "native.enc": "utf-8"}


class Built(Struct, frozen=True):
    """What an installed package says of its installation.

    Attributes:
        runtime: the version of R that it was installed with.
        platform: of compiled code; "" where there is none.
    """

    runtime: str
    platform: str


class Description:
    """A DESCRIPTION.

    Attributes:
        fields: by name; lines within a value are parted by a line feed.
    """

    def __init__(self, fields: Mapping[str, str]) -> None:
        self.fields = fields

    @property
    def name(self) -> str:
        return self.fields.get("Package", "")

    @property
    def version(self) -> str:
        return self.fields.get("Version", "")

    @property
    def is_of_runtime(self) -> bool:
        """Whether it is a part of R itself."""
        return self.fields.get("Priority") == "base"

    @cached_property
    def built(self) -> Built | None:
        """How it was installed; None for a source package (Writing R Extensions, 1.1.1: ``Built``)."""
        parts = [part.strip() for part in self.fields.get("Built", "").split(";")]
        if len(parts) < 2 or not parts[0].startswith("R "):
            return None
        return Built(parts[0][2:].strip(), parts[1])

    def needs(self, *kinds: str) -> list[Requirement]:
        """The packages that fields name, each once, without R itself.

        Args:
            kinds: the names of fields.

        Raises:
            ValueError: there are more of them than any package has.
        """
        every = requirements.field(", ".join(filter(None, (self.fields.get(kind, "") for kind in kinds))))
        return [one for one in every if one.name != _RUNTIME]

    @property
    def runtime(self) -> versions.Range:
        """The versions of R that it works with."""
        every = requirements.field(self.fields.get("Depends", ""))
        return next((one.range for one in every if one.name == _RUNTIME), versions.NONE)


def parse(data: bytes) -> Description:
    """A DESCRIPTION by its bytes, in the encoding that it names (UTF-8, or else what all bytes are something in).

    Raises:
        ValueError: it is none.
    """
    # Every encoding that may be named has the letters of field names in common.
    fields = foreign.parsed(lambda: next(records(data.decode("latin-1")), {}))
    named = fields.get("Encoding", "utf-8").strip().lower()
    for encoding in (_ENCODINGS.get(named, named), "utf-8"):
        try:
            return Description(next(records(data.decode(encoding)), {}))
        except (UnicodeDecodeError, LookupError):
            continue
    return Description(fields)


def read(path: Path | str) -> Description:
    """Read a DESCRIPTION.

    Raises:
        OSError: it cannot be read.
        ValueError: it is none, or does not say name and version.
    """
    found = parse(foreign.read(path, foreign.MOST_METADATA_BYTES))
    if not found.name or not found.version:
        raise ValueError("it does not say Package and Version")
    return found
