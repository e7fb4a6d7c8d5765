"""The interface: one thin layer over the core. A module a command: its arguments, its call, its view."""
