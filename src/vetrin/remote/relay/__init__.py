"""Hosts without SSH: one file that PHP runs there answers what is asked of it over HTTP."""
