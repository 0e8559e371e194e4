"""Calls over D-Bus, to the system's services and to a user's desktop."""
