"""Addresses: what of one may be shown and kept, and which are of this machine."""

from __future__ import annotations

from pathlib import Path
from urllib.parse import unquote, urlsplit, urlunsplit

__all__ = ["local_path", "without_credentials"]


def without_credentials(url: str) -> str:
    """A URL without user name, password, query and fragment: any of these may hold a secret.

    The user name ``git`` of an ssh address is part of the address, not a secret, and stays.
    """
    try:
        parts = urlsplit(url)
        host = parts.netloc.rpartition("@")[2]
        unescaped = "@" not in parts.netloc and _is_no_host(host)
    except ValueError:
        return f"{url.partition('://')[0]}://..."  # malformed: what of it is secret cannot be told
    if unescaped:
        # A slash in a password that stands there as it is: the host comes after the last @, if at all.
        _, at, rest = parts.path.rpartition("@")
        return f"{parts.scheme}://{rest}" if at else f"{parts.scheme}://..."
    if parts.scheme.endswith("ssh") and parts.username == "git" and not parts.password:
        host = "git@" + host
    return urlunsplit((parts.scheme, host, parts.path, "", ""))


def _is_no_host(place: str) -> bool:
    """Whether what stands where a host and a port should is something else: the beginning of a password."""
    port = place.rpartition("]")[2].rpartition(":")[2] if ":" in place.rpartition("]")[2] else ""
    return bool(port) and not port.isdigit()


def local_path(url: str) -> Path | None:
    """The path of a ``file:`` address or of a plain path; None for any other."""
    try:
        parts = urlsplit(url)
    except ValueError:
        return None  # malformed: whoever asks for it says so
    if parts.scheme == "file":
        return Path(unquote(parts.path))
    return Path(url) if not parts.scheme else None
