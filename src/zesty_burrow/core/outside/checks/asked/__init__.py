"""Checks that ask an observatory."""
