"""Repositories of R packages."""
