"""What the kernel has of rules, routes, packet filters and sockets, read for the map of all ways out."""
