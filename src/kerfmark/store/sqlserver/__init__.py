"""SQL Server: scripts only."""
