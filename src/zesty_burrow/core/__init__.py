"""Octets and values only: no sockets, files, clock, randomness, environment or printing."""

DEFAULT_PROTOCOL = "ikev2"
"""The protocol of a profile that names none: a part of the profile's format."""
