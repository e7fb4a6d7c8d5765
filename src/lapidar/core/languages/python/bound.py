"""Whether a package is bound to the runtime that it was installed for: by compiled modules, or by what it says."""

from __future__ import annotations

import re

from packaging.specifiers import InvalidSpecifier, SpecifierSet

from lapidar.core.cache.store import Cache
from lapidar.core.errors import LapidarError
from lapidar.core.languages.python.pinning.cached import metadata_of_tree
from lapidar.core.records.snapshot import Package, Runtime

__all__ = ["works_with"]

# An extension module, and for which interpreter it was compiled (PEP 3149); bundled libraries lie in folders `*.libs`.
_EXTENSION = re.compile(r"(?!.*\.libs/).*?(?:\.(?P<tag>[\w-]+))?\.so$")


def works_with(package: Package, runtime: Runtime, cache: Cache) -> bool:
    """Whether nothing keeps a package from another runtime; see `protocol.Language.works_with`."""
    try:
        tree, asked = cache.tree(package.tree), metadata_of_tree(cache, package.tree).requires_python
    except LapidarError:
        return False
    if not all(_loads(entry.path, runtime) for entry in tree):
        return False
    try:
        return SpecifierSet(asked).contains(runtime.version, prereleases=True)
    except InvalidSpecifier:
        return True  # what cannot be read excludes nothing, as the standard has it


def _loads(path: str, runtime: Runtime) -> bool:
    """Whether a file is no extension module, or one for this runtime, or for all (the stable interface)."""
    found = _EXTENSION.match(path)
    if found is None or found["tag"] == "abi3":
        return True
    major, minor = runtime.version.split(".")[:2]
    return found["tag"] is not None and found["tag"].startswith(f"{runtime.implementation}-{major}{minor}-")
