"""Dumps in SQL: read and written."""
