"""Commands that run the lab and what ships with it."""
