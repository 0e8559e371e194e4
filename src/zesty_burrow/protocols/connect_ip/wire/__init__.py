"""What travels: variable-length integers, capsules, the address of the request."""
