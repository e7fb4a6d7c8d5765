"""What a run was seen to use."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from msgspec import Struct, field

__all__ = ["Image", "ObservedRun"]


class Image(NamedTuple):
    """What a process was made of: the file that was to be executed, and the program that runs it (for a script its
    interpreter)."""

    started: str
    running: str


class ObservedRun(Struct, frozen=True):
    """What a run and its children used, as absolute paths; of what was mapped and opened, links followed.

    Attributes:
        code: the run's exit code.
        mapped: files that were mapped into memory as code.
        executed: programs that were started, scripts among them.
        opened: all files that were opened, but for those of a folder whose files are told one by one (`written.Files`).
        by: what each image mapped and opened.
    """

    code: int
    mapped: tuple[str, ...]
    executed: tuple[str, ...]
    opened: tuple[str, ...]
    by: Mapping[Image, tuple[str, ...]] = field(default_factory=dict)
