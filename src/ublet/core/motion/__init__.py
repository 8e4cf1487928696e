"""Motion: geometry of the drives."""
