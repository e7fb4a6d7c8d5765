"""What changed between snapshots, how likely it alters results, and which change did."""
