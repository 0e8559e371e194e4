"""Compiled loops around the system's own calls: packets are carried between device and network without Python.

Structures are Linux's on machines with pointers of eight octets, as words of eight octets, the low octet first.
"""
