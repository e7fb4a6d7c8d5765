"""``ENV/lapidar.toml``: which snapshot a restored environment is of, and how it was placed."""

from __future__ import annotations

import enum
from pathlib import Path

import msgspec
import tomli

from lapidar.core import decoding, foreign

__all__ = ["AS_THEY_ARE", "FILE_NAME", "PRIVATE", "SOUGHT", "WATCHED", "Marker", "WhoseLibraries", "read"]

FILE_NAME = "lapidar.toml"
# While a run is recorded it has this variable, and what an environment's language looks for is told by asking for files
# in that folder, which is nowhere.
WATCHED, SOUGHT = "LAPIDAR_WATCHED", "/.lapidar-sought/"
PRIVATE = "lib/lapidar"  # the folder of what is not for the user's hands: the real executable and the like
FORMAT = 1


AS_THEY_ARE = "its own packages as they are now"
"""How an environment was chosen whose members were built again since its lockfile was written."""


class WhoseLibraries(enum.StrEnum):
    """Whose system libraries an environment runs with."""

    AUTO = "auto"  # only asked for: its own where that can be
    PRIVATE = "private"  # its own
    HOST = "host"


class Marker(msgspec.Struct, frozen=True, rename={"left_out": "left-out"}):
    """What a restored environment says of itself.

    Attributes:
        snapshot: the identity of its snapshot.
        placement: how its files were placed.
        executables: by language, the name of the real interpreter in `PRIVATE`.
        placed: the digest of the list of placed files, see `lapidar.core.environment.manifest`.
        left_out: the groups of the lockfile that are not part of its snapshot.
        libraries: whose system libraries it runs with.
        chosen: how another snapshot than that of the project's lockfile was asked for; "" where none was.
        live: whether it has links to files of the project; not written where not.
    """

    format: int
    snapshot: str
    placement: str
    executables: dict[str, str]
    placed: str
    left_out: tuple[str, ...] = ()
    libraries: WhoseLibraries = WhoseLibraries.HOST
    chosen: str = ""
    live: bool = False

    def render(self) -> str:
        """The text of the file."""
        fields = msgspec.to_builtins(self)
        lines = [f"{key} = {_toml(value)}" for key, value in fields.items() if key != "live" or value]
        return "\n".join(
            ["# Written by lapidar restore. This folder may be moved, and is not to be edited.", *lines, ""]
        )


def _toml(value: object) -> str:
    """Such values are written alike in TOML and in JSON, but for tables."""
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{_toml(key)} = {_toml(one)}" for key, one in value.items()) + " }"
    return msgspec.json.encode(value).decode()


def read(environment: Path) -> Marker | None:
    """The marker of an environment; None where Lapidar did not make it."""
    try:
        data = foreign.parsed(lambda: tomli.loads(foreign.read_text(environment / FILE_NAME)))
        return decoding.convert(data, Marker)
    except (OSError, ValueError, msgspec.ValidationError):
        return None
