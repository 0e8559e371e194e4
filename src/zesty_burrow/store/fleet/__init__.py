"""Devices, their links and enrolments, as a store keeps them."""
