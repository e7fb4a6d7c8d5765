"""What a run was seen to use."""

from __future__ import annotations

from dataclasses import dataclass

__all__ = ["ObservedRun"]


@dataclass(frozen=True, slots=True)
class ObservedRun:
    """What a run and its children used, as absolute paths; of what was mapped and opened, links followed.

    Attributes:
        code: the run's exit code.
        mapped: files that were mapped into memory as code.
        executed: programs that were started, scripts among them.
        opened: all files that were opened.
    """

    code: int
    mapped: tuple[str, ...]
    executed: tuple[str, ...]
    opened: tuple[str, ...]
