"""What the rest of the program finds of IKEv2 through the registry, one module per part."""
