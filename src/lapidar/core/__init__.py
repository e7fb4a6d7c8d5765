"""The core: everything Lapidar does, with no interface code. Imports nothing from ``lapidar.cli``."""
