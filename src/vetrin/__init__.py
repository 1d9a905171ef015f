"""Vetrin keeps local, staging and production copies of a content-managed site in step."""
