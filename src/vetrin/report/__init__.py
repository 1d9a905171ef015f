"""Results beyond the terminal: pictures."""
