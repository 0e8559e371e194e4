"""Devices: what each should have, handing over, and where each stands."""
