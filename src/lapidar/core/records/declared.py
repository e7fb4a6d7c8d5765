"""How a project's overrides act, as values; their words are in `lapidar.core.records.words`."""

from __future__ import annotations

import enum

import msgspec

from lapidar.core.records.owner import PackageName

__all__ = ["OverrideEffect", "OverrideStanding"]


class OverrideEffect(enum.StrEnum):
    """What an override changes."""

    # told by resolving without it
    NOT_NEEDED = "not needed"
    USED = "used"
    NEEDED_TO_SOLVE = "needed to solve"
    CANNOT_TELL = "cannot tell"
    SAME_WITHOUT = "same without"
    OTHER_WITHOUT = "other without"
    # told from the lockfile
    NOT_LOCKED = "not locked"
    ASKS_FOR_ANOTHER = "asks for another"
    AGAINST = "against"
    FORBIDDEN_BY_NOBODY = "forbidden by nobody"


class OverrideStanding(msgspec.Struct, frozen=True):
    """How one override acts.

    Attributes:
        package: that it is of.
        details: what the effect's words have places for.
        until: the day until which it was to hold, where that is past; "" otherwise.
    """

    package: PackageName
    effect: OverrideEffect
    details: tuple[str, ...] = ()
    until: str = ""

    @property
    def is_idle(self) -> bool:
        """Whether nothing would be different without it."""
        return self.effect in (OverrideEffect.NOT_NEEDED, OverrideEffect.SAME_WITHOUT, OverrideEffect.NOT_LOCKED)
