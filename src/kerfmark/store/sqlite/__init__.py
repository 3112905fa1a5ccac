"""SQLite: `files` for databases that are there, `build` for one that is being made."""
