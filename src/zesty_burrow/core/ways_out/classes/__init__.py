"""Packets as classes that no rule tells apart, and sets of them."""
