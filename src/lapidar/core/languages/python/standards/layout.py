"""The package tree: two roots, ``site/`` and ``prefix/``, and how installed paths map to it.

Both ways that a package can reach us, a wheel and an environment that some installer made, go through the
functions of this module, so that they come to the same tree. Three places of the Binary distribution format
need a neutral name: the folder of packages (``site/``), the interpreter line of scripts (``#!python``), and
the folder of C headers, whose path holds the runtime's version (``prefix/include/python/``).
"""

from __future__ import annotations

import re

__all__ = [
    "INSTALLER_FILES",
    "NEUTRAL_LINE",
    "is_bytecode",
    "is_installers_own",
    "is_metadata",
    "neutral_headers",
    "neutral_script",
]

# What an installer writes about its own act is not the package.
INSTALLER_FILES = frozenset({"RECORD", "INSTALLER", "REQUESTED", "direct_url.json", "provenance_url.json"})
ORIGIN_FILE = "lapidar-origin.json"
NEUTRAL_LINE = b"#!python\n"

_HEADERS = re.compile(r"^include/(?:site/)?python\d+\.\d+[a-z]*/([^/]+)/")
_METADATA = re.compile(r"^site/[^/]*\.(?:dist-info/METADATA|egg-info/PKG-INFO)$")
_METADATA_FILE = re.compile(r"^[^/]+\.(?:dist|egg)-info/([^/]+)$")


def is_installers_own(site_path: str) -> bool:
    """Whether a path below the packages' folder is an installer's note about its own act."""
    matched = _METADATA_FILE.match(site_path) if "-info/" in site_path else None
    if not matched:
        return False
    name = matched[1]
    # Some installers keep keys of their own caches beside the standard's files.
    return name in INSTALLER_FILES or name == ORIGIN_FILE or name.endswith("_cache.json")


def is_metadata(tree_path: str) -> bool:
    """Whether a path of a package tree is its core metadata."""
    return _METADATA.match(tree_path) is not None


def is_bytecode(path: str) -> bool:
    """Whether a path lies in a folder of byte-code (and of other caches made by running)."""
    return "__pycache__/" in path


def neutral_headers(prefix_path: str) -> str:
    """A path below the prefix, with the folder of C headers in its neutral form."""
    matched = _HEADERS.match(prefix_path)
    if not matched:
        return prefix_path
    return f"include/python/{matched[1]}/{prefix_path[matched.end() :]}"


def neutral_script(data: bytes, interpreters: frozenset[bytes]) -> bytes | None:
    """A script with its interpreter line in the neutral form, or None where it is not a script of a package's
    interpreter.

    Args:
        data: the script's bytes.
        interpreters: paths that stand for the environment's interpreter.
    """
    if not data.startswith(b"#!"):
        return None
    line, _, rest = data.partition(b"\n")
    words = line[2:].split()
    if words and words[0] in interpreters:
        return NEUTRAL_LINE + rest
    if line[2:].strip() in interpreters:  # a path with spaces
        return NEUTRAL_LINE + rest
    return _without_shell_prologue(line, rest, interpreters)


def _without_shell_prologue(line: bytes, rest: bytes, interpreters: frozenset[bytes]) -> bytes | None:
    """Where the interpreter's path is too long for the kernel, or has spaces, installers start the script
    through a line that is both shell and Python: ``'''exec' "/path/to/python" "$0" "$@"`` and ``' '''``."""
    if line.strip() not in (b"#!/bin/sh", b"#! /bin/sh"):
        return None
    matched = re.match(rb"""'''exec' ("?)(?P<path>[^"\n]+?)\1 "\$0" "\$@"\n' '''\n""", rest)
    if not matched or matched["path"] not in interpreters:
        return None
    return NEUTRAL_LINE + rest[matched.end() :]
