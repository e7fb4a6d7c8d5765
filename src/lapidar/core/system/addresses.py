"""Addresses of sockets, as calls have them (socket(7), ip(7), ipv6(7), unix(7)), in words."""

from __future__ import annotations

import ipaddress
import os
import sys

__all__ = ["partner"]

_UNIX, _INET, _INET6 = 1, 2, 10


def partner(data: bytes) -> str:
    """Whom an address is of: a host and a port, or the path of a socket; "" for what says nothing, or is of the kernel.

    Args:
        data: the bytes of a ``struct sockaddr``.
    """
    family = int.from_bytes(data[:2], sys.byteorder)
    port = int.from_bytes(data[2:4], "big")
    if family == _INET and len(data) >= 8:
        return f"{ipaddress.IPv4Address(data[4:8])}:{port}" if port else ""
    if family == _INET6 and len(data) >= 24:
        return f"[{ipaddress.IPv6Address(data[8:24])}]:{port}" if port else ""
    if family == _UNIX and data[2:3] == b"/":
        path = os.fsdecode(data[2:].split(b"\0")[0])
        return path if os.path.exists(path) else ""  # one that is not there answers nobody
    return ""
