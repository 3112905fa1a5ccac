"""Whatever was cut, added, taken back and loaded anew: the database is what loading the standing
loads in order gives."""

from __future__ import annotations

from histories import machine

TestOnSQLite = machine("SQLite", 60)
TestOnPostgreSQL = machine("PostgreSQL", 15)
TestOnMariaDB = machine("MariaDB", 8)
