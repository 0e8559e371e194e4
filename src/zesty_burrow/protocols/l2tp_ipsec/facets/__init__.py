"""What the rest of the program finds of L2TP/IPsec through the registry, one module per part."""
