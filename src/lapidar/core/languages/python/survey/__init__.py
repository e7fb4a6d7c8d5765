"""Survey: what the project's own source needs, found by reading it, without running any of it."""
