"""Environments as they lie on the disk: finding one, asking its interpreter, writing launch files into one."""
