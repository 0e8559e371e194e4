"""Fetches what providers hand over from where they keep it: their portals."""
