"""The observatory itself: what a server in the outside runs."""
