"""Building R packages from their source."""
