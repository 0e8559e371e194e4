"""What leaves this machine and what the outside sees of it, judged, kept and shown."""
