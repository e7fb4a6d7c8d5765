"""The local, content-addressed package cache: files, trees, history, audit, prune.

Its layout, and what it promises, is described in ``docs/cache.md``.
"""

from lapidar.core.cache.store import Cache, default_folder
from lapidar.core.cache.trees import Entry, Tree

__all__ = ["Cache", "Entry", "Tree", "default_folder"]
