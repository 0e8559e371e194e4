"""What the rest of the program finds of CONNECT-IP through the registry, one module per part."""
