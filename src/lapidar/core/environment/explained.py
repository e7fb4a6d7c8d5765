"""What a link in an environment may lead to: what the environment's own folders, the project, or a package of the
operating system explain. Anything else (somebody's password file behind a module's name) is not captured."""

from __future__ import annotations

import os
from collections.abc import Iterable

from lapidar.core.system import owners

__all__ = ["Explained"]


class Explained:
    """Tells whether a file or a folder may be taken, by its real path.

    Args:
        folders: the environment's own, and the project's.
    """

    def __init__(self, folders: Iterable[str]) -> None:
        self._roots = tuple(os.path.realpath(place).rstrip("/") + "/" for place in dict.fromkeys(folders))

    def __call__(self, path: str) -> bool:
        if path.startswith(self._roots) or f"{path}/" in self._roots:
            return True
        # A folder like /etc belongs to a package too, but not all that is in it.
        return os.path.isfile(path) and bool(owners.here().of([path]))
