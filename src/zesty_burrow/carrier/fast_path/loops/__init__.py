"""What is compiled."""
