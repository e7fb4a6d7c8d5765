"""R's packages from its repositories; see `lapidar.core.languages.protocol.Pinning`."""

from lapidar.core.languages.r.graph import add_needs
from lapidar.core.languages.r.pinning.session import fetch_missing, opened

__all__ = ["add_needs", "fetch_missing", "opened"]
