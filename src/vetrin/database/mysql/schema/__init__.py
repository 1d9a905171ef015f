"""Definitions of tables: taken apart, translated for another server, and read in what any server understands."""
