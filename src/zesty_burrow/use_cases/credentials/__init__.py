"""Credentials: ask for them, choose them, try them."""
