"""A made-up language, as one would be added from outside: see docs/languages.md."""
