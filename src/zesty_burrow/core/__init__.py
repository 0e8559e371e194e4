"""Octets and values only: no sockets, files, clock, randomness, environment or printing."""
