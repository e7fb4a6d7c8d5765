"""Watching one run of the analysis: what it and its children mapped, imported, executed and opened."""
