"""SQLite: a database in one file, here or on another machine."""
