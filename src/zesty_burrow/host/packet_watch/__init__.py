"""A capture on all outer devices that sees only what nothing explains."""
