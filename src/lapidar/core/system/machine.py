"""What kind of machine this is."""

from __future__ import annotations

import os

from lapidar.core.records.snapshot import Platform

__all__ = ["platform_here"]


def platform_here(libc: str = "") -> Platform:
    """The platform of this machine.

    Args:
        libc: name and version of the C library, where an interpreter told its own.
    """
    system = os.uname()
    return Platform(system.sysname.lower(), system.machine, libc or _libc_here())


def _libc_here() -> str:
    try:
        return os.confstr("CS_GNU_LIBC_VERSION") or "unknown"
    except (ValueError, OSError):
        return "unknown"
