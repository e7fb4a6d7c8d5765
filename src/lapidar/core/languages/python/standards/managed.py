"""Marking an environment as managed from outside (Externally Managed Environments, PyPA specifications): what installs
packages in place refuses to do so there, and says what to do instead. Every file of an environment is shared with the
cache, or may be, and what is not in its lockfile would be gone at the next restore."""

from __future__ import annotations

__all__ = ["FILE_NAME", "TEXT", "is_ours"]

FILE_NAME = "EXTERNALLY-MANAGED"  # in the folder of the standard library
TEXT = b"""\
[externally-managed]
Error=This environment was restored by lapidar from a lockfile, and is not changed in place.

 To have a package in it: lapidar need NAME
 To be without one: lapidar drop NAME
"""


def is_ours(data: bytes) -> bool:
    """Whether a file of that name was generated for a restored environment."""
    return b"restored by lapidar" in data
