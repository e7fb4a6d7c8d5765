"""Addresses: what of one may be shown and kept, and which are of this machine."""

from __future__ import annotations

from pathlib import Path
from urllib.parse import unquote, urlsplit, urlunsplit

__all__ = ["local_path", "without_credentials"]


def without_credentials(url: str) -> str:
    """A URL without user name, password, query and fragment: any of these may hold a secret.

    The user name ``git`` of an ssh address is part of the address, not a secret, and stays.
    """
    parts = urlsplit(url)
    host = parts.netloc.rpartition("@")[2]
    if parts.scheme.endswith("ssh") and parts.username == "git" and not parts.password:
        host = "git@" + host
    return urlunsplit((parts.scheme, host, parts.path, "", ""))


def local_path(url: str) -> Path | None:
    """The path of a ``file:`` address or of a plain path; None for any other."""
    parts = urlsplit(url)
    if parts.scheme == "file":
        return Path(unquote(parts.path))
    return Path(url) if not parts.scheme else None
