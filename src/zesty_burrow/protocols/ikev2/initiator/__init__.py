"""The end that asks for a tunnel."""
