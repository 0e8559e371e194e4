"""Runs of the verification: what is kept of each, what has changed between two, and how a chain of them is proven."""
