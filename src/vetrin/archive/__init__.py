"""Archives and dumps that any program can open, in and out."""
