"""IP packets and what tunnelling does to them."""
