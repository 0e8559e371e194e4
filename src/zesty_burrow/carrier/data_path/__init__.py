"""Packets between a tunnel device and a tunnel's socket, one by one."""
