"""The kernel's packet filter (nf_tables), spoken directly over netlink, and the guard that is made of it."""
