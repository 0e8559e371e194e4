"""Whether this machine is ready for a tunnel."""
