"""Which change did it; see `lapidar.core.languages.protocol.Searching`."""

from lapidar.core.languages.python.bound import works_with
from lapidar.core.languages.python.coupling import needs_between

__all__ = ["needs_between", "works_with"]
