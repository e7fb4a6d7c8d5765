"""Analyses that know each other: what a run stood on, whether that is still so, and in which order they come."""
