"""Building: source -> wheel -> tree, by the standard's hooks, in an environment that is itself pinned and restored."""
