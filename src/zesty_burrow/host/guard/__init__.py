"""The guard: an allow-list in the packet filter, owned by a process of its own, and what is known of it."""
