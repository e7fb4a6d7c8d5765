"""Pinning: from declared needs to exact packages that fit together, with the reason where none do."""
