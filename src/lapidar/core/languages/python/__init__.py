"""Python: interpreters, distributions, wheels, byte-code, markers, indexes, source."""
