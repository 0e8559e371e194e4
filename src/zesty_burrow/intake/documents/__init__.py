"""Documents of other programs, read by libraries for their text, tables and pictures."""
