"""Which modules the standard library of a version of the runtime has.

Lapidar runs with one version, a project with another: `sys.stdlib_module_names` is Lapidar's own. What came and went is
listed here, from the pages "What's New" of each version (and PEP 594).
"""

from __future__ import annotations

import functools
import sys

__all__ = ["modules"]

# By the first version without them.
_GONE = {
    (3, 9): "_dummy_thread dummy_threading",
    (3, 10): "formatter parser symbol macpath",
    (3, 11): "binhex",
    (3, 12): "asynchat asyncore distutils imp smtpd",
    (3, 13): "aifc audioop cgi cgitb chunk crypt imghdr lib2to3 mailcap msilib nis nntplib ossaudiodev pipes sndhdr "
    "spwd sunau telnetlib uu xdrlib",
}
# By the first version with them.
_CAME = {
    (3, 9): "zoneinfo graphlib",
    (3, 11): "tomllib",
    (3, 14): "annotationlib compression",
}


@functools.cache
def modules(version: str) -> frozenset[str]:
    """The top-level modules of a version.

    Args:
        version: ``3.11.7``; "" for that of Lapidar's own runtime.
    """
    own = sys.stdlib_module_names
    try:
        major, minor, *_ = map(int, version.split(".")[:2])
    except ValueError:
        return own
    found = set(own)
    for first, names in _GONE.items():
        (found.update if (major, minor) < first else found.difference_update)(names.split())
    for first, names in _CAME.items():
        (found.update if (major, minor) >= first else found.difference_update)(names.split())
    return frozenset(found)
