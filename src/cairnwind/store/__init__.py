"""SQLite underneath: the only place with SQL."""
