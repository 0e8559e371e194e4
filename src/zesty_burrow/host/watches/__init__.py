"""Notices changes that other programs make on this machine."""
