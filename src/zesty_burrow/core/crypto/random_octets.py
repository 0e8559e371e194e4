"""Randomness is passed in: the core draws none itself."""

from collections.abc import Callable

Random = Callable[[int], bytes]
"""Returns this number of unpredictable octets."""
