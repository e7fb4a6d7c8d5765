"""Results of an analysis: what a run wrote, and how it differs from what another wrote."""
