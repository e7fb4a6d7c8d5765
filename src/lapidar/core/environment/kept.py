"""What a restored environment keeps of its snapshot's records because no file of it tells: one JSON file a layer."""

from __future__ import annotations

from pathlib import Path
from typing import TypeVar

import msgspec

from lapidar.core import decoding, foreign
from lapidar.core.environment import marker

__all__ = ["TOOLS", "read", "render"]

TOOLS = f"{marker.PRIVATE}/tools.json"  # of outside programs; who has none loads nothing of them

T = TypeVar("T")


def read(environment: Path, name: str, kind: type[T]) -> T | None:
    """What a layer kept.

    Args:
        name: the file, as a path below the environment.
        kind: what it holds.

    Returns:
        None where there is no such file, or it cannot be read.
    """
    try:
        return foreign.parsed(lambda: decoding.from_json(foreign.read(environment / name), kind))
    except (OSError, ValueError):
        return None


def render(value: object) -> bytes:
    """The file's bytes."""
    return msgspec.json.encode(value) + b"\n"
