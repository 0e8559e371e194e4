"""Zesty Burrow: bring VPN settings in, connect over open standards, prove that nothing leaks."""

__version__ = "0.1.0"
