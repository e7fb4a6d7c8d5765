"""A restored environment as a whole: what languages and layers make of it together."""
