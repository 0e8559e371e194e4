"""Commands about what leaves this machine and what the outside sees."""
