"""Cards to be printed."""
