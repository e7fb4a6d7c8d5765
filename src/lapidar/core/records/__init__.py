"""Values and their canonical text: the snapshot, its lockfile, whose a thing is, who needs whom."""
