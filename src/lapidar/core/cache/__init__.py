"""The local, content-addressed package cache: files, trees, history, audit, prune.

Its layout, and what it promises, is described in ``docs/cache.md``.
"""
