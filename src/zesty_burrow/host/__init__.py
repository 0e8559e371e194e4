"""This machine: files, tunnel device, addresses, routes, resolver, namespaces, and the journal of what was changed."""
