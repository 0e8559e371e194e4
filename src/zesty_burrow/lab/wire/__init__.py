"""A look at what leaves the lab's workstation."""
