"""Other programs' forms of what a lockfile says: standard ones, written and read."""
