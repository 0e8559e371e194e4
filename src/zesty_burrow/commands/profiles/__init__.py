"""Commands about profiles."""
