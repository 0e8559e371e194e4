"""Tunnels and the guard: connect, look, verify, disconnect."""
