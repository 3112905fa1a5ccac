"""Oracle: scripts only."""
