"""R as a language of snapshots."""
