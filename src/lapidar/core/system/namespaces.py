"""Whether this process may make a mount namespace of its own: user_namespaces(7), mount_namespaces(7)."""

from __future__ import annotations

import ctypes
import os

__all__ = ["allowed"]

_NEW_MOUNTS, _NEW_USER = 0x00020000, 0x10000000


def allowed() -> bool:
    """Try it in a child process, which ends with it."""
    library = ctypes.CDLL(None, use_errno=True)
    child = os.fork()
    if child == 0:
        done = library.unshare(_NEW_MOUNTS) == 0 or library.unshare(_NEW_USER | _NEW_MOUNTS) == 0
        os._exit(0 if done else 1)
    return os.waitpid(child, 0)[1] == 0
