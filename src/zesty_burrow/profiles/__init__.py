"""Profiles as files: the text form, checks, and comparison of two of them."""
