"""What is particular to the language that a runtime runs: the protocol, and the list of languages."""
