"""What the rest of the program finds of PPTP through the registry, one module per part."""
