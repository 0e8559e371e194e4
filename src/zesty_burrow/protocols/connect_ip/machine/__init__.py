"""What both ends of a tunnel keep: addresses, routes, packets."""
