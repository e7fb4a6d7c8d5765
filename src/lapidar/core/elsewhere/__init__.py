"""Calls into other snapshots: how values travel (docs/elsewhere.md), and the process on the other side."""
