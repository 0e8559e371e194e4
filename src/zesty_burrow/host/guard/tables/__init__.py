"""The guard as tables of the packet filter: what is let through, made into rules, and compared with the kernel."""
