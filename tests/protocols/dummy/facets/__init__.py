"""What the program finds of the dummy protocol through the registry."""
