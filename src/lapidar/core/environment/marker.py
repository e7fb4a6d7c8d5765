"""``ENV/lapidar.toml``: which snapshot a restored environment is of, and how it was placed."""

from __future__ import annotations

from pathlib import Path

import msgspec
import tomli

__all__ = ["FILE_NAME", "PRIVATE", "Marker", "read"]

FILE_NAME = "lapidar.toml"
PRIVATE = "lib/lapidar"  # the folder of what is not for the user's hands: the real executable and the like
OWNER = "lapidar"  # whom the files belong to that are no part of the snapshot
FORMAT = 1


class Marker(msgspec.Struct, frozen=True, rename={"left_out": "left-out"}):
    """What a restored environment says of itself.

    Attributes:
        snapshot: the identity of its snapshot.
        placement: how its files were placed.
        executable: the name of the real interpreter in `PRIVATE`.
        placed: the sha256 of the list of placed files.
        left_out: the groups of the lockfile that are not part of its snapshot.
        libraries: whose system libraries it runs with: its own (``private``) or the ``host``'s.
    """

    format: int
    snapshot: str
    placement: str
    executable: str
    placed: str
    left_out: tuple[str, ...] = ()
    libraries: str = "host"

    def render(self) -> str:
        """The text of the file."""
        fields = msgspec.to_builtins(self)
        # Such values are written alike in TOML and in JSON.
        lines = [f"{key} = {msgspec.json.encode(value).decode()}" for key, value in fields.items()]
        return "\n".join(
            ["# Written by lapidar restore. This folder may be moved, and is not to be edited.", *lines, ""]
        )


def read(environment: Path) -> Marker | None:
    """The marker of an environment; None where Lapidar did not make it."""
    try:
        data = tomli.loads((environment / FILE_NAME).read_text("utf-8"))
        return msgspec.convert(data, Marker)
    except (OSError, ValueError, msgspec.ValidationError):
        return None
