"""The operating system below an environment: its libraries, how its loader finds them, and whose they are."""
