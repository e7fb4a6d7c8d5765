"""What runs steps: the interface of an engine. docs/steps.md says how to write another."""

from __future__ import annotations

import enum
from collections.abc import Collection, Sequence
from typing import Protocol

from msgspec import Struct

from lapidar.core.records.results import Analysis
from lapidar.core.steps.graph import Step
from lapidar.core.steps.standing import Reason

__all__ = ["Done", "Engine", "How"]


class How(enum.StrEnum):
    """What became of a step."""

    RAN = "ran"
    TAKEN = "taken"  # from an earlier run
    FAILED = "failed"
    HELD_UP = "held up"  # by one that failed, or that cannot be ordered
    STANDS = "stands"  # what it waited for gave the same: it need not run, and nobody is told


class Done(Struct, frozen=True):
    """What came of one step.

    Attributes:
        reasons: why it was not up to date.
        seconds: how long it took.
        changed: its results that are not what they were.
        notes: what the user should know, a sentence each.
        error: why it failed, or what holds it up.
        said: the last of what a failed one said on standard error.
        absent: of a failed one, paths below the project that it looked for in vain.
        written: its record as it is written, where it has one now.
        taken_by: whoever signed the run that it was taken from, where others made it.
        taken_from: when the run was made that it was taken from, seconds since 1970; 0 where it ran.
    """

    name: str
    how: How
    reasons: tuple[Reason, ...] = ()
    seconds: float = 0.0
    changed: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    error: str = ""
    said: tuple[str, ...] = ()
    taken_from: float = 0.0
    taken_by: str = ""
    absent: tuple[str, ...] = ()
    written: Analysis | None = None


class Engine(Protocol):
    """What runs steps. All of it is called by one thread.

    Attributes:
        is_elsewhere: whether a step that ran has its results in the cache alone: whoever asked for it lays them out.
            Such an engine takes steps too whose earlier ones it has and that have not ended.
    """

    @property
    def is_elsewhere(self) -> bool: ...

    def submit(self, step: Step, earlier: Collection[str] = ()) -> bool:
        """Begin a step, or have it begin with the others once `wait` is called; False where there is no room for it
        now: then it is asked again when another has ended.

        Args:
            earlier: steps that were submitted, and that it is to begin after, with what they make.
        """

    def hand_over(self) -> None:
        """Have all that was submitted where it goes on without this process, for an engine elsewhere."""

    def wait(self) -> Sequence[Done]:
        """Wait until at least one has ended; what became of those that have."""

    def cancel(self) -> None:
        """End all that is under way, or leave it where it goes on by itself: nobody waits for it any more."""
