"""What R source uses: read, never run."""
