"""An environment as it lies on the disk: its lists, its launch files, its layout, and comparing it with these."""
