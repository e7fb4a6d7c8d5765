"""Stand-ins for what a machine without a network does not have: a package index, and made-up packages for it."""
