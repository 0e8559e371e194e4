"""Calls over D-Bus, to the system's services and to the desktop of whoever has signed in."""
