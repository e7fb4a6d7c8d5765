"""Asking hosts, whatever is asked for."""
