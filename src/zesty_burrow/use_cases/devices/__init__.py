"""Devices: list them, hand profiles over, receive and report."""
