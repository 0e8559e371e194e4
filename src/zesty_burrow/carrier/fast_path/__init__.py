"""Packets between a tunnel device and a tunnel's socket by compiled loops (numba)."""
