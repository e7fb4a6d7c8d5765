"""Pinning for Python: which versions there are for a target, and how they get into the cache."""
