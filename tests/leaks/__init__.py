"""Leaks that are planted on the lab's workstation, and clean set-ups: what verify has to say of each."""
