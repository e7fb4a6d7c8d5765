"""Which R packages, and bringing them."""
