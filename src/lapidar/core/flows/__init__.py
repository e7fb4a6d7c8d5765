"""What each command does, a page each that reads like the command's description."""
