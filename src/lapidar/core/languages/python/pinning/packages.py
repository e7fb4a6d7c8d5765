"""Python's packages from its indexes; see `lapidar.core.languages.protocol.Pinning`."""

from lapidar.core.languages.python.graph import add_needs
from lapidar.core.languages.python.pinning.refetch import fetch_missing
from lapidar.core.languages.python.pinning.session import opened

__all__ = ["add_needs", "fetch_missing", "opened"]
