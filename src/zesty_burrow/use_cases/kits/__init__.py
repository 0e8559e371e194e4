"""Kits: read, inspect and import them."""
