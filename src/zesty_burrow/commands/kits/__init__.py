"""Commands about kits, and what they share."""
