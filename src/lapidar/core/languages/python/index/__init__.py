"""Package indexes: which files there are of a name, what they need, and their bytes."""
