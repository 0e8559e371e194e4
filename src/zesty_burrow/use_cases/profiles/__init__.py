"""Profiles: find, show, change and remove them."""
