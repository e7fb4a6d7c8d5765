"""Where Python's own files say what a project needs."""
