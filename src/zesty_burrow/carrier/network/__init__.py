"""Sockets, addresses and settings of this machine, as a tunnel needs them."""
