"""The page that a one-time link opens, and its texts."""
