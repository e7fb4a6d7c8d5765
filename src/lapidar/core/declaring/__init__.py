"""Declaring: what a project says that it needs, read from its own files and edited in them."""
